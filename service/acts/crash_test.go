package acts_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/require"

	"beacon/clock"
	"beacon/core/access"
	"beacon/outcall"
	"beacon/reach"
	"beacon/service/acts"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var ctx = context.Background()

const (
	kind    = "move"
	subject = "saltmarsh-ferries.example."
	timeout = 15 * time.Millisecond // of a request
	lease   = time.Minute
)

// errCrash ends a run as the end of its process would: nothing after it happens.
var errCrash = errors.New("crash")

// outside is what acts change: a list that is saved, and then made active. It counts how often each is.
type outside struct {
	saved, active int
}

// instance is a process of the service. It crashes at a moment that is counted in calls of its performer: those lie before and after
// each commit and each request.
type instance struct {
	t       *testing.T
	world   *outside
	crashAt int    // 0 for never
	lose    string // whose answer is lost: the kind of a request, and whether it has had its effect
	calls   int
}

func (i *instance) moment() {
	if i.calls++; i.calls == i.crashAt {
		panic(errCrash)
	}
}

func (i *instance) Locks(*store.Tx, store.Act) ([]string, error) {
	i.moment()
	return []string{acts.DomainLock(1), acts.PlacementLock(2)}, nil
}

func (i *instance) Next(_ context.Context, run *acts.Run) (d acts.Decision, err error) {
	i.moment()
	switch {
	case i.world.saved == 0:
		d.Request = i.request(acts.NameserversSaved, &i.world.saved)
	case i.world.active == 0:
		d.Request = i.request(acts.NameserversActivated, &i.world.active)
	default:
		d.Outcome = acts.Outcome{State: store.ActDone, Message: "moved"}
	}
	i.moment()
	return d, nil
}

func (i *instance) request(kind string, effect *int) *acts.Request {
	return &acts.Request{Kind: kind, Seen: *i.world, Intended: "the new list",
		Send: func(context.Context) (string, error) {
			i.moment()
			lost := &outcall.Error{Kind: outcall.Unavailable, Outcome: outcall.Unclear, Asked: kind, Said: "no answer"}
			if i.lose == kind+" before" {
				i.lose = ""
				return "", lost
			}
			*effect++
			i.moment()
			if i.lose == kind+" after" {
				i.lose = ""
				return "", lost
			}
			return "", nil
		},
		Done: func(*store.Tx) error { i.moment(); return nil }}
}

func (i *instance) Became(_ context.Context, _ *acts.Run, request store.Act) (store.ActState, error) {
	i.moment()
	if request.Kind == acts.NameserversSaved && i.world.saved > 0 || request.Kind == acts.NameserversActivated && i.world.active > 0 {
		return store.ActDone, nil
	}
	return store.ActNotApplied, nil
}

func (i *instance) Ended(*store.Tx, *acts.Run, acts.Outcome) error { i.moment(); return nil }

// bench is a database whose time can be moved on, past the leases of who crashed.
type bench struct {
	t     *testing.T
	store *store.Store
	book  *logbook.Book
	moved time.Duration
}

func newBench(t *testing.T) *bench {
	b := &bench{t: t}
	s, err := store.Open(ctx, storetest.Settings(t), reach.Loopback(), func() time.Time { return clock.Wall{}.Now().Add(b.moved) })
	require.NoError(t, err)
	t.Cleanup(s.Close)
	b.store, b.book = s, logbook.New(s, slog.New(slog.DiscardHandler))
	return b
}

func (b *bench) open(i *instance) *acts.Acts {
	counter := prometheus.NewCounterVec(prometheus.CounterOpts{Name: "jobs"}, []string{"kind", "outcome"})
	quiet := slog.New(slog.DiscardHandler)
	a := acts.New(b.store, b.book, jobs.New(b.store, &clock.World{}, quiet, lease, counter), quiet, timeout, lease)
	a.Register(kind, i)
	return a
}

// start stores an act.
func (b *bench) start(a *acts.Acts) (act store.Act) {
	require.NoError(b.t, b.book.Tx(ctx, func(tx *store.Tx) (err error) {
		act, err = a.Start(access.Service, tx, kind, subject, 0, "", nil)
		return err
	}))
	return act
}

// run has an instance do what is due, as the queue would, and reports whether it crashed.
func (b *bench) run(a *acts.Acts) (crashed bool) {
	defer func() {
		if what := recover(); what == errCrash {
			crashed = true
		} else if what != nil {
			panic(what)
		}
	}()
	for {
		b.moved += 2 * lease // whoever had it is gone
		var job store.Job
		var due bool
		require.NoError(b.t, b.store.Tx(ctx, func(tx *store.Tx) (err error) {
			job, due, err = tx.Claim(lease, nil, store.JobAct)
			return err
		}))
		if !due {
			return false
		}
		_ = a.Run(ctx, job) // it comes again
	}
}

// An act is broken off at each moment before and after each of its commits and requests, and what goes on with it is broken off at each
// of its own, with each answer lost or not: each change is made once, the act ends well, and the log is complete. Without BEACON_SOAK
// an act with a lost answer is broken off once.
func TestCrashAtEachMoment(t *testing.T) {
	b := newBench(t)
	answers := []string{""}
	for _, of := range []string{acts.NameserversSaved, acts.NameserversActivated} {
		answers = append(answers, of+" before", of+" after")
	}
	runs, crashes := 0, 0
	for _, lose := range answers {
		for first := 0; ; first++ {
			over := true
			for second := 0; ; second++ {
				again, n := b.once(lose, first, second)
				runs, crashes = runs+1, crashes+n
				if n > 0 {
					over = false
				}
				if first == 0 || second > 0 && !again || lose != "" && os.Getenv("BEACON_SOAK") == "" {
					break
				}
			}
			if over && first > 0 {
				break
			}
		}
	}
	t.Logf("%d crashes in %d acts", crashes, runs)
	require.Greater(t, crashes, 150)
}

// once does one act, with a crash at the first moment of one instance and at the second of the next. again says that both came about.
func (b *bench) once(lose string, first, second int) (again bool, crashes int) {
	name := fmt.Sprintf("%q lost, crashes at %d and %d", lose, first, second)
	world := &outside{}
	one := &instance{t: b.t, world: world, crashAt: first, lose: lose}
	a := b.open(one)
	act := b.start(a)
	if b.run(a) {
		crashes++
		two := &instance{t: b.t, world: world, crashAt: second, lose: one.lose}
		if b.run(b.open(two)) {
			crashes++
			b.run(b.open(&instance{t: b.t, world: world, lose: two.lose}))
		}
	}
	require.Equal(b.t, outside{saved: 1, active: 1}, *world, name)
	require.NoError(b.t, b.store.Look(ctx, func(tx *store.Tx) error {
		ended, err := tx.ActByID(act.ID)
		require.NoError(b.t, err)
		require.Equal(b.t, store.ActDone, ended.State, name)
		requests, err := tx.ActsOf(act.ID)
		require.NoError(b.t, err)
		done := map[string]int{}
		for _, r := range requests {
			require.NotEqual(b.t, store.ActSent, r.State, "%s: the outcome of %s stays open", name, r.Kind)
			if r.State == store.ActDone {
				done[r.Kind]++
			}
		}
		require.Equal(b.t, map[string]int{acts.NameserversSaved: 1, acts.NameserversActivated: 1}, done, name)
		entries, err := tx.Entries(subject, false, true, 0, 100)
		var lines []string
		for _, e := range entries {
			if strings.HasPrefix(e.Detail, fmt.Sprintf("act %d", act.ID)) {
				lines = append(lines, e.Action)
			}
		}
		for _, action := range []string{kind + ".requested", acts.NameserversSaved, acts.NameserversActivated, kind + ".done"} {
			require.True(b.t, slices.Contains(lines, action), "%s: the log lacks %s", name, action)
		}
		require.Len(b.t, lines, len(requests)+2, "%s: one line for each request, and two for the act", name)
		return err
	}))
	return crashes == 2, crashes
}
