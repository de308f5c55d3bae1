package jobs

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"beacon/clock"
	"beacon/store"
)

// Handler runs the jobs of one kind. It returns Later to be called again. Any other error is trouble that passes: the job is tried
// again, for as long as it takes, at intervals that grow to ten minutes. Work that cannot get better has to end itself.
type Handler func(context.Context, store.Job) error

// Workers are the jobs of some kinds that run at the same time.
type Workers struct {
	Kinds   []string
	Most    int // jobs at a time
	PerLane int // of them in one lane; jobs without a lane do not count
	// Lanes says how many of them may be in a lane of its own choice, instead of PerLane; 0 or nil for PerLane.
	Lanes func(lane uint64) int
	Lease time.Duration // real time; zero for that of the queue
}

// Queue is the background work of one instance. It is safe for concurrent use once all kinds are registered.
type Queue struct {
	store    *store.Store
	world    *clock.World
	log      *slog.Logger
	lease    time.Duration
	ran      *prometheus.CounterVec
	handlers map[string]Handler
	workers  []Workers
	wakes    map[string]chan struct{} // by kind: told when there may be new work
	running  sync.Map                 // by id: when this instance began with it, a time.Time
	scout    chan struct{}            // told when the next due time may have changed
	before   []func() bool            // whether something is about to store work
}

// New returns a queue whose jobs are leased for the given real time; what is due at a simulated time goes by world. What became of each job is
// counted in ran, by kind and outcome.
func New(db *store.Store, world *clock.World, log *slog.Logger, lease time.Duration, ran *prometheus.CounterVec) *Queue {
	q := &Queue{store: db, world: world, log: log, lease: lease, ran: ran, handlers: map[string]Handler{}, wakes: map[string]chan struct{}{}, scout: make(chan struct{}, 1)}
	db.OnEnqueue(q.enqueued)
	return q
}

// Handle registers the handler of a kind.
func (q *Queue) Handle(kind string, h Handler) { q.handlers[kind] = h }

// Employ registers workers.
func (q *Queue) Employ(w Workers) {
	if w.Lease == 0 {
		w.Lease = q.lease
	}
	wake := make(chan struct{}, 1)
	for _, kind := range w.Kinds {
		q.wakes[kind] = wake
	}
	q.workers = append(q.workers, w)
}

// Wake has the workers of a kind look for work now.
func (q *Queue) Wake(kind string) {
	if wake := q.wakes[kind]; wake != nil {
		nudge(wake)
	}
}

// Run works until ctx ends, and returns when the work in hand has been put down.
func (q *Queue) Run(ctx context.Context) {
	var group sync.WaitGroup
	group.Go(func() { q.watch(ctx) })
	for _, w := range q.workers {
		group.Go(func() { q.dispatch(ctx, w) })
	}
	group.Wait()
}

// enqueued is told of the kinds of work that a transaction stored.
func (q *Queue) enqueued(kinds []string) {
	for _, kind := range kinds {
		q.Wake(kind)
	}
	q.look()
}

// nudge tells a channel once.
func nudge(wake chan<- struct{}) {
	select {
	case wake <- struct{}{}:
	default:
	}
}
