package logbook

import (
	"context"
	"sync"
	"time"

	"beacon/clock"
	"beacon/service/jobs"
	"beacon/store"
	"beacon/wire"
)

// eventPause is how long the sequencer and listeners wait before they look for new lines again, wall time.
const eventPause = 50 * time.Millisecond

// SequenceLease is how long nobody numbers lines after the instance that did has died: readers wait for it.
const SequenceLease = 3 * time.Second

// bell wakes everybody who waits for events. It is safe for concurrent use.
type bell struct {
	mu   sync.Mutex
	rung chan struct{}
}

func newBell() *bell { return &bell{rung: make(chan struct{})} }

// wait gives a channel that is closed at the next ring.
func (b *bell) wait() <-chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.rung
}

func (b *bell) ring() {
	b.mu.Lock()
	defer b.mu.Unlock()
	close(b.rung)
	b.rung = make(chan struct{})
}

// RunSequence numbers the lines of the logbook as they become visible, for as long as it has the lease. One instance
// does it at a time; when it ends, another takes over once the lease has run out.
func (b *Book) RunSequence(ctx context.Context, job store.Job) error {
	for {
		numbered := 0
		err := b.store.Tx(ctx, func(tx *store.Tx) (err error) { numbered, err = tx.NumberEntries(job); return err })
		if err != nil {
			return err
		}
		if numbered == 0 {
			if err := clock.Pause(ctx, eventPause); err != nil {
				return err
			}
		}
	}
}

// Listen rings the bell whenever new events can be read, until ctx ends.
func (b *Book) Listen(ctx context.Context) {
	defer close(b.stopped)
	known, asked := uint64(0), time.Time{}
	for clock.Pause(ctx, eventPause) == nil {
		var last uint64
		err := b.store.Tx(ctx, func(tx *store.Tx) (err error) {
			if last, err = tx.LastNumber(); err == nil && time.Since(asked) > time.Second { // should nobody have the work
				asked = time.Now()
				err = jobs.Enqueue(tx, store.JobSequence, 0, b.store.Now())
			}
			return err
		})
		if err == nil && last != known {
			known = last
			b.bell.ring()
		}
	}
}

// Stopped is closed when this instance stops: streams end then.
func (b *Book) Stopped() <-chan struct{} { return b.stopped }

// LastEvent gives the number of the newest event.
func (b *Book) LastEvent(ctx context.Context) (last uint64, err error) {
	err = b.Tx(ctx, func(tx *store.Tx) error { last, err = tx.LastNumber(); return err })
	return last, err
}

// EventsAfter gives the events after a number, in their order, at most a few hundred at a time. Where there are none it
// gives a channel that is closed when it is worth asking again.
func (b *Book) EventsAfter(ctx context.Context, seq uint64) (list []wire.Entry, more <-chan struct{}, err error) {
	more = b.bell.wait() // taken before looking, so that nothing can come between
	err = b.Tx(ctx, func(tx *store.Tx) error {
		rows, err := tx.EntriesAfter(seq, 500)
		list = viewEntries(rows)
		return err
	})
	return list, more, err
}

func viewEntries(rows []store.Entry) []wire.Entry {
	list := make([]wire.Entry, len(rows))
	for i, r := range rows {
		list[i] = wire.Entry(r)
	}
	return list
}
