package jobs

import (
	"context"
	"slices"
	"time"

	"beacon/store"
)

// EnqueueWorld makes sure that there is open work of a kind on subject, due at the given simulated time or earlier.
func (q *Queue) EnqueueWorld(tx *store.Tx, kind string, subject uint64, due time.Time) error {
	return tx.EnqueueWorld(kind, subject, q.world.WallAt(due), due)
}

// Retime has work that is due at a simulated time done by the clock as it runs now. It is called after the clock was set or began to run at
// another rate.
func (q *Queue) Retime(ctx context.Context) error {
	now := q.store.Now()
	err := q.store.Tx(ctx, func(tx *store.Tx) error { return tx.Retime(now, q.world.At(now), q.world.Rate()) })
	for _, kind := range onlyLooks {
		q.Wake(kind)
	}
	q.look()
	return err
}

// What comes again by real time all the while is not waited for before simulated time goes on. What follows from work that was done, such as a
// second look, is soon. What only looks is waited for so long, real time: a server that does not answer would hold up all others.
var (
	byRealTime = []string{store.JobLook, store.JobWatch, store.JobSweep, store.JobPrune, store.JobSample, store.JobProbe, store.JobFollow, store.JobVerify, store.JobGather, store.JobTell, store.JobSequence}
	onlyLooks  = []string{store.JobCheck, store.JobBrief, store.JobAlias}
)

const (
	soon      = time.Second
	longLook  = time.Second
	restPause = 4 * time.Millisecond // between two questions whether all is done
)

// Rest waits until all work that is due is done, and returns the simulated time at which the next is due; the zero time for none. It
// returns false where the wait ended before that, as ctx did.
func (q *Queue) Rest(ctx context.Context) (next time.Time, atRest bool, err error) {
	for {
		var underway []store.Job
		var ahead *time.Time
		err = q.store.Tx(ctx, func(tx *store.Tx) (err error) {
			underway, ahead, err = tx.Ahead(q.store.Now().Add(soon), byRealTime)
			return err
		})
		if ahead != nil {
			next = ahead.UTC()
		}
		if ctx.Err() != nil {
			return next, false, nil
		}
		if err != nil || !slices.ContainsFunc(underway, q.waitedFor) && !q.busy() {
			return next, err == nil, err
		}
		select {
		case <-ctx.Done():
			return next, false, nil
		case <-time.After(restPause):
		}
	}
}

// AlsoBefore has simulated time wait while busy reports that something is about to store work.
func (q *Queue) AlsoBefore(busy func() bool) { q.before = append(q.before, busy) }

func (q *Queue) busy() bool {
	return slices.ContainsFunc(q.before, func(busy func() bool) bool { return busy() })
}

// waitedFor reports whether simulated time waits for a job.
func (q *Queue) waitedFor(job store.Job) bool {
	since, ours := q.running.Load(job.ID)
	return !ours || !slices.Contains(onlyLooks, job.Kind) || time.Since(since.(time.Time)) < longLook
}
