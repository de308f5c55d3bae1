package jobs

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"time"

	"beacon/store"
)

// Later returns work back until a moment of real or of simulated time; it is not a failure. Work that only made way does not count as tried;
// recurring work that went well begins to count again.
type Later struct {
	At      time.Time // real time
	World   time.Time // simulated time, in place of At; only with Worked
	MadeWay bool
	Worked  bool
}

func (e Later) Error() string {
	if !e.World.IsZero() {
		return "due again at " + e.World.Format(time.RFC3339) + ", simulated time"
	}
	return "due again at " + e.At.Format(time.RFC3339)
}

// mostPause is the longest pause between two attempts, real time.
const mostPause = 10 * time.Minute

// Backoff returns how long to wait after so many failed attempts, real time: from a fifth of a second, twice as long each time, up to
// ten minutes; a little less by chance, so that what failed together does not come back together.
func Backoff(attempts int) time.Duration {
	pause := min(200*time.Millisecond<<min(max(attempts-1, 0), 12), mostPause)
	return pause - time.Duration(rand.Int64N(int64(pause/4)))
}

// run runs one piece of work under its lease, which is lengthened meanwhile; when it is lost, the work is broken off.
func (q *Queue) run(ctx context.Context, job store.Job, lease time.Duration) {
	q.running.Store(job.ID, time.Now())
	defer q.running.Delete(job.ID)
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	done := make(chan struct{})
	var renewal sync.WaitGroup
	renewal.Go(func() {
		ticker := time.NewTicker(lease / 4)
		defer ticker.Stop()
		for {
			select {
			case <-done:
				return
			case <-ticker.C:
				if err := q.store.Extend(ctx, job, lease); errors.Is(err, store.ErrLeaseLost) {
					cancel(err)
				}
			}
		}
	})
	err := q.handle(ctx, job)
	close(done)
	renewal.Wait()
	q.putDown(ctx, job, err)
}

func (q *Queue) handle(ctx context.Context, job store.Job) error {
	h, known := q.handlers[job.Kind]
	if !known {
		return fmt.Errorf("work of kind %q is not known", job.Kind)
	}
	return h(ctx, job)
}

// putDown returns what becomes of work after it was run.
func (q *Queue) putDown(ctx context.Context, job store.Job, err error) {
	var later Later
	outcome := "done"
	finish := func(tx *store.Tx) error { return tx.Finish(job, "") }
	switch {
	case errors.Is(err, store.ErrLeaseLost) || errors.Is(context.Cause(ctx), store.ErrLeaseLost):
		q.log.Warn("work was taken over by another instance", "kind", job.Kind, "subject", job.Subject)
		return
	case errors.As(err, &later):
		outcome = "later"
		finish = func(tx *store.Tx) error { return tx.Again(job, later.At, "") }
		switch {
		case later.Worked && !later.World.IsZero():
			finish = func(tx *store.Tx) error { return tx.AnewWorld(job, q.world.WallAt(later.World), later.World) }
		case later.Worked:
			finish = func(tx *store.Tx) error { return tx.Anew(job, later.At) }
		case later.MadeWay:
			finish = func(tx *store.Tx) error { return tx.Later(job, later.At) }
		}
	case ctx.Err() != nil: // shutting down: free for others at once
		outcome = "put down"
		finish = func(tx *store.Tx) error { return tx.Again(job, q.store.Now(), "the service was stopped") }
	case err != nil:
		outcome = "failed"
		pause := Backoff(job.Attempts)
		finish = func(tx *store.Tx) error { return tx.Again(job, q.store.Now().Add(pause), err.Error()) }
		q.log.Warn("work will be tried again", "kind", job.Kind, "subject", job.Subject, "attempt", job.Attempts, "pause", pause, "error", err)
	}
	q.ran.WithLabelValues(job.Kind, outcome).Inc()
	defer q.look()
	if err := q.store.Tx(context.WithoutCancel(ctx), finish); err != nil && !errors.Is(err, store.ErrLeaseLost) {
		q.log.Error("work could not be put down; it will be taken up again when its lease ends", "kind", job.Kind, "subject", job.Subject, "error", err)
	}
}
