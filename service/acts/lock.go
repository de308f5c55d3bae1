package acts

import (
	"fmt"

	"beacon/service/jobs"
	"beacon/store"
)

// PlacementLock is the lock on a zone at one provider account: on its records, and on the zone itself.
func PlacementLock(placementID uint64) string { return fmt.Sprintf("placement %d", placementID) }

// DomainLock is the lock on all that a registrar has of a domain.
func DomainLock(domainID uint64) string { return fmt.Sprintf("domain %d", domainID) }

// Lock acquires locks for a job, all of them or none, and reports whether it could. It confirms that the job's own lease still holds.
func Lock(tx *store.Tx, job store.Job, names ...string) (bool, error) {
	if err := jobs.Hold(tx, job); err != nil {
		return false, err
	}
	for i, name := range names {
		free, err := tx.TakeLock(name, job)
		if err != nil {
			return false, err
		}
		if !free {
			for _, taken := range names[:i] {
				if err := tx.FreeLock(taken, job); err != nil {
					return false, err
				}
			}
			return false, nil
		}
	}
	return true, nil
}

// Hold confirms that a job has its lease and its locks, and keeps it so until the transaction ends. It returns store.ErrLeaseLost
// where another job may have them.
func Hold(tx *store.Tx, job store.Job, names ...string) error {
	if err := jobs.Hold(tx, job); err != nil {
		return err
	}
	for _, name := range names {
		if err := tx.HoldLock(name, job); err != nil {
			return err
		}
	}
	return nil
}
