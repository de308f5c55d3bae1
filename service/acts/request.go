package acts

import (
	"time"

	"beacon/service/jobs"
	"beacon/store"
)

// The kinds of requests.
const (
	Records              = "records" // a batch of record changes
	ZoneMade             = "zone-made"
	ZoneRemoved          = "zone-removed"
	NameserversSaved     = "nameservers-saved"
	NameserversActivated = "nameservers-activated"
	HostWritten          = "host-written" // a host object at a registrar, or glue in a zone of ours
	DSWritten            = "ds-written"
	LockWritten          = "lock-written" // a status at a registrar, set or lifted
)

// Intend stores a request that is about to be sent, under the lease and the locks of its job, and lengthens the lease so that the
// request's deadline lies within it.
func (a *Acts) Intend(tx *store.Tx, job store.Job, locks []string, act store.Act) (store.Act, error) {
	if err := Hold(tx, job, locks...); err != nil {
		return act, err
	}
	if err := CheckHold(tx, locks...); err != nil {
		return act, err
	}
	if err := jobs.Extend(tx, job, a.lease); err != nil {
		return act, err
	}
	deadline := a.store.Now().Add(a.timeout)
	act.State, act.Deadline, act.Turn = store.ActSent, &deadline, job.Turn
	return act, tx.AddAct(&act)
}

// Close records what became of a request.
func Close(tx *store.Tx, id uint64, state store.ActState, problem string) error {
	return tx.CloseAct(id, state, problem)
}

// Accepted keeps what to ask with, where a provider only accepted a request at first.
func Accepted(tx *store.Tx, id uint64, receipt string) error { return tx.SetReceipt(id, receipt) }

// OfSync returns the requests of a sync in their order.
func OfSync(tx *store.Tx, syncID uint64) ([]store.Act, error) { return tx.ActsOfSync(syncID) }

// OpenOfPlacement returns the requests of a placement's syncs of which the outcome is not known, of syncs that were ended, too.
func OpenOfPlacement(tx *store.Tx, placementID uint64) ([]store.Act, error) {
	return tx.OpenActsOfPlacement(placementID)
}

// outlasted returns how long to wait until a request cannot be on its way any more.
func outlasted(act store.Act, now time.Time) time.Duration {
	if act.Deadline == nil {
		return 0
	}
	return act.Deadline.Sub(now)
}
