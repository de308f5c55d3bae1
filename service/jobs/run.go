package jobs

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"beacon/outcall"
	"beacon/store"
)

// Later gives work back until a moment of real time; it is not a failure. Work that only made way does not count as tried.
type Later struct {
	At      time.Time
	MadeWay bool
}

func (e Later) Error() string { return "due again at " + e.At.Format(time.RFC3339) }

// mostAttempts is how often work is tried that fails for reasons it does not know itself.
const mostAttempts = 8

// run runs one piece of work under its lease, which is lengthened meanwhile; when it is lost, the work is broken off.
func (q *Queue) run(ctx context.Context, job store.Job, lease time.Duration) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	done := make(chan struct{})
	var keeper sync.WaitGroup
	keeper.Go(func() {
		ticker := time.NewTicker(lease / 4)
		defer ticker.Stop()
		for {
			select {
			case <-done:
				return
			case <-ticker.C:
				if err := q.store.Tx(ctx, func(tx *store.Tx) error { return tx.Extend(job, lease) }); errors.Is(err, store.ErrLeaseLost) {
					cancel(err)
				}
			}
		}
	})
	err := q.handle(ctx, job)
	close(done)
	keeper.Wait()
	q.putDown(ctx, job, err)
}

func (q *Queue) handle(ctx context.Context, job store.Job) error {
	h, known := q.handlers[job.Kind]
	if !known {
		return fmt.Errorf("work of kind %q is not known", job.Kind)
	}
	return h.Run(ctx, job)
}

// putDown says what becomes of work after it was run.
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
		if later.MadeWay {
			finish = func(tx *store.Tx) error { return tx.Later(job, later.At) }
		}
	case ctx.Err() != nil: // shutting down: free for others at once
		outcome = "put down"
		finish = func(tx *store.Tx) error { return tx.Again(job, q.store.Now(), "the service was stopped") }
	case err != nil && job.Attempts < mostAttempts:
		outcome = "failed"
		finish = func(tx *store.Tx) error {
			return tx.Again(job, q.store.Now().Add(outcall.Backoff(job.Attempts)), err.Error())
		}
	case err != nil:
		outcome = "given up"
		finish = func(tx *store.Tx) error { return q.giveUp(tx, job, err) }
	}
	if outcome == "failed" || outcome == "given up" {
		q.log.Warn("work did not end well", "kind", job.Kind, "subject", job.Subject, "outcome", outcome, "error", err)
	}
	q.ran.WithLabelValues(job.Kind, outcome).Inc()
	if err := q.store.Tx(context.WithoutCancel(ctx), finish); err != nil && !errors.Is(err, store.ErrLeaseLost) {
		q.log.Error("work could not be put down; it will be taken up again when its lease ends", "kind", job.Kind, "subject", job.Subject, "error", err)
	}
}

func (q *Queue) giveUp(tx *store.Tx, job store.Job, reason error) error {
	if gaveUp := q.handlers[job.Kind].GaveUp; gaveUp != nil {
		if err := gaveUp(tx, job, reason); err != nil {
			return err
		}
	}
	return tx.Finish(job, reason.Error())
}
