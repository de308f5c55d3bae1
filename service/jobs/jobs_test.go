package jobs_test

import (
	"cmp"
	"context"
	"errors"
	"fmt"
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
	r.queue = jobs.New(s, &clock.World{}, slog.New(slog.DiscardHandler), time.Minute, prometheus.NewCounterVec(prometheus.CounterOpts{Name: "jobs"}, []string{"kind", "outcome"}))
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

// Work that fails is tried again, each time later, for as long as it takes; once it went well, it begins to count again.
func TestWorkIsTriedForAsLongAsItTakes(t *testing.T) {
	const failures = 20
	r := newRoom(t)
	var tried atomic.Int64
	worked, again := make(chan struct{}), make(chan struct{})
	r.queue.Handle("ferry", func(_ context.Context, job store.Job) error {
		switch n := tried.Add(1); {
		case n <= failures:
			assert.EqualValues(t, n, job.Attempts)
			return errors.New("the pier is closed")
		case n == failures+1:
			close(worked)
			return jobs.Later{At: r.store.Now(), Worked: true}
		default:
			assert.Equal(t, 1, job.Attempts)
			close(again)
			return nil
		}
	})
	r.queue.Employ(jobs.Workers{Kinds: []string{"ferry"}, Most: 2, PerLane: 1})
	r.ask("ferry", 7, 0)
	r.run()
	for _, done := range []chan struct{}{worked, again} {
		require.Eventually(t, func() bool {
			select {
			case <-done:
				return true
			default:
				r.moved.Add(int64(5 * time.Second)) // on to the next try, and within the lease of one that runs
				r.queue.Wake("ferry")
				return false
			}
		}, 2*time.Minute, 5*time.Millisecond)
	}
}

func TestBackoff(t *testing.T) {
	last := time.Duration(0)
	for attempts := range 30 {
		pause := jobs.Backoff(attempts)
		assert.Greater(t, pause, 100*time.Millisecond)
		assert.LessOrEqual(t, pause, 10*time.Minute)
		last = max(last, pause)
	}
	assert.Greater(t, last, 7*time.Minute)
}

// Work that makes way comes again as often as it likes, and is not given up for that.
func TestWorkMakesWay(t *testing.T) {
	r := newRoom(t)
	var turns atomic.Int64
	done := make(chan struct{})
	r.queue.Handle("ferry", func(_ context.Context, job store.Job) error {
		assert.Equal(t, 1, job.Attempts)
		if turns.Add(1) < 20 {
			return jobs.Later{At: clock.Wall{}.Now(), MadeWay: true}
		}
		close(done)
		return nil
	})
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

// A lane that is busy holds up itself alone. It may say by itself how many it takes.
func TestLanes(t *testing.T) {
	for _, own := range []int{0, 1, 3} {
		t.Run(fmt.Sprint(own), func(t *testing.T) { lanes(t, own, cmp.Or(own, 2)) })
	}
}

func lanes(t *testing.T, own, want int) {
	r := newRoom(t)
	var mu sync.Mutex
	running, most := map[uint64]int{}, 0
	release, other := make(chan struct{}), make(chan struct{})
	var all sync.WaitGroup
	all.Add(5)
	r.queue.Handle("ferry", func(_ context.Context, job store.Job) error {
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
	})
	r.queue.Employ(jobs.Workers{Kinds: []string{"ferry"}, Most: 8, PerLane: 2, Lanes: func(uint64) int { return own }})
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
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return running[1] == want }, 2*time.Minute, time.Millisecond)
	close(release)
	all.Wait()
	assert.Equal(t, want, most)
}
