package service

import (
	"errors"

	"beacon/core/change"
	"beacon/core/diff"
	"beacon/core/record"
	"beacon/service/acts"
	"beacon/service/aliases"
	"beacon/service/hosts"
	"beacon/store"
)

// observer passes on what syncs write to the rooms that have to know.
type observer struct {
	*hosts.Hosts
	*aliases.Aliases
	made    func(tx *store.Tx, zoneID uint64) error
	journal *acts.Journal
}

// Made is called in the transaction that records that a zone was made or found at a provider.
func (o observer) Made(tx *store.Tx, zoneID uint64) error { return o.made(tx, zoneID) }

// Written is called in the transaction that records which steps were done at a placement. The steps were done, whatever becomes of the
// transaction.
func (o observer) Written(tx *store.Tx, placementID uint64, list []store.Host, done change.List) error {
	if err := o.journal.Wrote(placementID, done); err != nil {
		return err
	}
	return o.Hosts.Written(tx, placementID, list, done)
}

// Ours returns which of the differences at a placement this service made itself, though its database does not know: it went back. It asks
// only while the service is held.
func (o observer) Ours(tx *store.Tx, placementID uint64, r diff.Result) ([]record.Key, error) {
	if err := acts.CheckHold(tx, acts.PlacementLock(placementID)); !errors.Is(err, acts.ErrHeld) {
		return nil, err
	}
	var live []record.Set
	var gone []record.Key
	for _, items := range [][]diff.Item{r.Drift, r.Conflicts, r.Foreign} {
		for _, item := range items {
			if item.Live.IsZero() {
				gone = append(gone, item.Key)
			} else {
				live = append(live, item.Live)
			}
		}
	}
	return o.journal.Ours(placementID, live, gone)
}
