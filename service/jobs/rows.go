package jobs

import (
	"time"

	"beacon/store"
)

// Enqueue makes sure that there is open work of a kind on subject, due at the given real time or earlier. Work that is being done is
// done once more afterwards: what it looked at may have been what was before.
func Enqueue(tx *store.Tx, kind string, subject uint64, due time.Time) error {
	return tx.Enqueue(kind, subject, due)
}

// EnqueueIn is Enqueue for work that is at an account, its lane.
func EnqueueIn(tx *store.Tx, kind string, subject, lane uint64, due time.Time) error {
	return tx.EnqueueIn(kind, subject, lane, due)
}

// Hold confirms that the lease of a job still holds, and keeps it so until the transaction ends. It returns store.ErrLeaseLost
// where another instance may have the work.
func Hold(tx *store.Tx, job store.Job) error { return tx.Hold(job) }

// Extend lengthens the lease of a job.
func Extend(tx *store.Tx, job store.Job, lease time.Duration) error { return tx.Extend(job, lease) }

// Cancel ends the job of a kind on subject. A worker that runs it finds its lease lost before it stores or sends anything more.
func Cancel(tx *store.Tx, kind string, subject uint64) error { return tx.EndJob(kind, subject) }

// WakeLane makes the open jobs of a lane due that nobody has.
func WakeLane(tx *store.Tx, lane uint64) error { return tx.WakeLane(lane) }

// WakeAll makes all open jobs due that nobody has, of kinds that change something outside.
func WakeAll(tx *store.Tx) error { return tx.WakeAll() }

// Finish ends a job in the transaction that records what it did.
func Finish(tx *store.Tx, job store.Job) error { return tx.Finish(job, "") }
