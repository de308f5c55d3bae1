package logbook

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"beacon/service/jobs"
	"beacon/store"
	"beacon/wire"
)

// New lines are looked for soon after the last ones were found, and more rarely when nothing happens. What this instance logs itself is
// not waited for.
const (
	shortestPause = 20 * time.Millisecond
	longestPause  = time.Second
)

// SequenceLease is how long nobody numbers lines after the instance that did has died: readers wait for it.
const SequenceLease = 3 * time.Second

// Event is a numbered line of the logbook, with its form in an event stream.
type Event struct {
	wire.Entry
	Text []byte
}

// feed is the newest events, read once for all streams of this instance. It is safe for concurrent use.
type feed struct {
	mu     sync.Mutex
	events []Event // in the order of their numbers, without a gap between the first and the last
	last   uint64  // number of the newest
	begun  bool    // last is known
	rung   chan struct{}
}

// mostKept is how many events are kept for streams that are a little behind.
const mostKept = 4096

func newFeed() *feed { return &feed{rung: make(chan struct{})} }

// after returns the events after a number and a channel that is closed when there are more. It is not known where the number is older than
// what is kept.
func (f *feed) after(seq uint64) (list []Event, more <-chan struct{}, known bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	more = f.rung
	if !f.begun || seq < f.last-uint64(len(f.events)) {
		return nil, more, false
	}
	if seq >= f.last {
		return nil, more, true
	}
	return f.events[len(f.events)-int(f.last-seq):], more, true
}

// add appends what was read behind the newest, and wakes the streams that wait.
func (f *feed) add(list []Event) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, e := range list {
		if len(f.events) > 0 && *e.Seq != f.last+1 { // a number is missing: what comes before it is read from the database
			f.events = nil
		}
		f.events, f.last = append(f.events, e), *e.Seq
	}
	if n := len(f.events); n > mostKept {
		f.events = append([]Event{}, f.events[n-mostKept/2:]...)
	}
	close(f.rung)
	f.rung = make(chan struct{})
}

// RunSequence numbers the lines of the logbook as they become visible, for as long as it has the lease. One instance
// does it at a time; when it ends, another takes over once the lease has run out.
func (b *Book) RunSequence(ctx context.Context, job store.Job) error {
	pause := shortestPause
	for {
		open, err := b.store.Unnumbered(ctx)
		numbered := 0
		if err == nil && open {
			err = b.store.Tx(ctx, func(tx *store.Tx) (err error) { numbered, err = tx.NumberEntries(job); return err })
		}
		if err != nil {
			return err
		}
		if numbered > 0 {
			pause = shortestPause
			nudge(b.numbered)
			select { // what is logged meanwhile is numbered together
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-time.After(shortestPause / 2):
			}
			continue
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-b.logged:
			pause = shortestPause
		case <-time.After(pause):
			pause = min(pause*2, longestPause)
		}
	}
}

// Listen reads new events into the feed, until ctx ends.
func (b *Book) Listen(ctx context.Context) {
	defer close(b.stopped)
	err := b.store.Tx(ctx, func(tx *store.Tx) error { return jobs.Enqueue(tx, store.JobSequence, 0, b.store.Now()) })
	if err != nil && ctx.Err() == nil {
		b.log.Error("numbering the logbook could not be scheduled", "error", err)
	}
	for pause := shortestPause; ; {
		found, err := b.read(ctx)
		if err == nil && found {
			pause = shortestPause
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-b.numbered:
			pause = shortestPause
		case <-time.After(pause):
			pause = min(pause*2, longestPause)
		}
	}
}

// read reads what is new, and reports whether that was anything.
func (b *Book) read(ctx context.Context) (bool, error) {
	if !b.feed.begun {
		last, err := b.store.LastNumber(ctx)
		if err == nil {
			b.feed.mu.Lock()
			b.feed.last, b.feed.begun = last, true
			b.feed.mu.Unlock()
		}
		return false, err
	}
	rows, err := b.store.EntriesAfter(ctx, b.feed.last, 500)
	if err != nil {
		return false, err
	}
	if len(rows) == 0 {
		return false, b.back(ctx)
	}
	list := make([]Event, len(rows))
	for i, r := range rows {
		if list[i], err = eventOf(r); err != nil {
			return false, err
		}
	}
	b.feed.add(list)
	return true, nil
}

// backEvery is how often it is looked whether the database went back, real time.
const backEvery = 10 * time.Second

// back begins again where the database went back to an earlier state.
func (b *Book) back(ctx context.Context) error {
	if time.Since(b.compared) < backEvery {
		return nil
	}
	b.compared = time.Now()
	last, err := b.store.LastNumber(ctx)
	if err != nil || last >= b.feed.last {
		return err
	}
	b.feed.mu.Lock()
	defer b.feed.mu.Unlock()
	b.feed.events, b.feed.last = nil, last
	return nil
}

func eventOf(r store.Entry) (Event, error) {
	e := Event{Entry: View(r)}
	data, err := json.Marshal(e.Entry)
	if err == nil {
		e.Text = fmt.Appendf(nil, "id: %d\ndata: %s\n\n", *e.Seq, data)
	}
	return e, err
}

// Stopped is closed when this instance stops: streams end then.
func (b *Book) Stopped() <-chan struct{} { return b.stopped }

// LastEvent returns the number of the newest event.
func (b *Book) LastEvent(ctx context.Context) (last uint64, err error) {
	last, err = b.store.LastNumber(ctx)
	return last, Explain(err)
}

// EventsAfter returns the events after a number, in their order, at most a few hundred at a time. Where there are none it
// gives a channel that is closed when it is worth asking again.
func (b *Book) EventsAfter(ctx context.Context, seq uint64) (list []Event, more <-chan struct{}, err error) {
	list, more, known := b.feed.after(seq)
	if known {
		return list, more, nil
	}
	rows, err := b.store.EntriesAfter(ctx, seq, 500)
	if err != nil {
		return nil, more, Explain(err)
	}
	for _, r := range rows {
		e, err := eventOf(r)
		if err != nil {
			return nil, more, err
		}
		list = append(list, e)
	}
	return list, more, nil
}

// nudge tells a channel once.
func nudge(wake chan<- struct{}) {
	select {
	case wake <- struct{}{}:
	default:
	}
}
