package jobs_test

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/clock"
	"beacon/reach"
	"beacon/service/jobs"
	"beacon/store"
	"beacon/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var ctx = context.Background()

// room is a queue over a database whose time can be moved on.
type room struct {
	t     *testing.T
	store *store.Store
	queue *jobs.Queue
	moved atomic.Int64
}

func newRoom(t *testing.T) *room {
	r := &room{t: t}
	s, err := store.Open(ctx, storetest.Settings(t), reach.Loopback(), func() time.Time { return clock.Wall{}.Now().Add(time.Duration(r.moved.Load())) })
	require.NoError(t, err)
	r.store = s
	r.queue = jobs.New(s, slog.New(slog.DiscardHandler), time.Minute, prometheus.NewCounterVec(prometheus.CounterOpts{Name: "jobs"}, []string{"kind", "outcome"}))
	return r
}

// run works until the test ends.
func (r *room) run() {
	working, stop := context.WithCancel(ctx)
	var group sync.WaitGroup
	group.Go(func() { r.queue.Run(working) })
	r.t.Cleanup(func() { stop(); group.Wait(); r.store.Close() })
}

func (r *room) ask(kind string, subject, lane uint64) {
	require.NoError(r.t, r.store.Tx(ctx, func(tx *store.Tx) error { return jobs.EnqueueIn(tx, kind, subject, lane, clock.Wall{}.Now()) }))
	r.queue.Wake(kind)
}

// Work that fails is tried eight times, each time later, and then given up in one transaction with what follows from that.
func TestWorkIsGivenUp(t *testing.T) {
	r := newRoom(t)
	var tried, gaveUp atomic.Int64
	reason := errors.New("the pier is closed")
	r.queue.Handle("ferry", jobs.Handler{
		Run: func(_ context.Context, job store.Job) error {
			assert.EqualValues(t, tried.Add(1), job.Attempts)
			return reason
		},
		GaveUp: func(_ *store.Tx, job store.Job, why error) error {
			assert.Equal(t, uint64(7), job.Subject)
			assert.ErrorIs(t, why, reason)
			gaveUp.Add(1)
			return nil
		}})
	r.queue.Employ(jobs.Workers{Kinds: []string{"ferry"}, Most: 2, PerLane: 1})
	r.ask("ferry", 7, 0)
	r.run()
	require.Eventually(t, func() bool {
		r.moved.Add(int64(2 * time.Second)) // on to the next try, and within the lease of one that runs
		r.queue.Wake("ferry")
		return gaveUp.Load() > 0
	}, 30*time.Second, 10*time.Millisecond)
	assert.EqualValues(t, 8, tried.Load())
	r.ask("ferry", 7, 0) // asked for anew, it begins anew
	tried.Store(0)
	require.Eventually(t, func() bool { r.queue.Wake("ferry"); return tried.Load() > 0 }, 20*time.Second, 10*time.Millisecond)
}

// Work that makes way comes again as often as it likes, and is not given up for that.
func TestWorkMakesWay(t *testing.T) {
	r := newRoom(t)
	var turns atomic.Int64
	done := make(chan struct{})
	r.queue.Handle("ferry", jobs.Handler{Run: func(_ context.Context, job store.Job) error {
		assert.Equal(t, 1, job.Attempts)
		if turns.Add(1) < 20 {
			return jobs.Later{At: clock.Wall{}.Now(), MadeWay: true}
		}
		close(done)
		return nil
	}})
	r.queue.Employ(jobs.Workers{Kinds: []string{"ferry"}, Most: 1, PerLane: 1})
	r.ask("ferry", 1, 0)
	r.run()
	for ended := false; !ended; {
		select {
		case <-done:
			ended = true
		case <-time.After(10 * time.Millisecond):
			r.queue.Wake("ferry")
		}
	}
	assert.EqualValues(t, 20, turns.Load())
}

// A lane that is busy holds up itself alone.
func TestLanes(t *testing.T) {
	r := newRoom(t)
	var mu sync.Mutex
	running, most := map[uint64]int{}, 0
	release, other := make(chan struct{}), make(chan struct{})
	var all sync.WaitGroup
	all.Add(5)
	r.queue.Handle("ferry", jobs.Handler{Run: func(_ context.Context, job store.Job) error {
		defer all.Done()
		mu.Lock()
		running[job.Lane]++
		most = max(most, running[job.Lane])
		mu.Unlock()
		if job.Lane == 1 {
			<-release
		} else {
			close(other)
		}
		mu.Lock()
		running[job.Lane]--
		mu.Unlock()
		return nil
	}})
	r.queue.Employ(jobs.Workers{Kinds: []string{"ferry"}, Most: 8, PerLane: 2})
	for subject := range uint64(4) {
		r.ask("ferry", 10+subject, 1)
	}
	r.ask("ferry", 99, 2)
	r.run()
	select {
	case <-other:
	case <-time.After(20 * time.Second):
		t.Fatal("the other lane waits for the slow one")
	}
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return running[1] == 2 }, 20*time.Second, time.Millisecond)
	close(release)
	all.Wait()
	assert.Equal(t, 2, most)
}
