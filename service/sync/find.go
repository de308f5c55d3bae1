package sync

import (
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/provider"
	"beacon/store"
)

// Unfinished returns the sync of a placement that has not ended; its ID is zero where there is none.
func Unfinished(tx *store.Tx, placementID uint64) (store.Sync, error) {
	return tx.UnfinishedSync(placementID)
}

// UnderWay reports whether any sync of a placement has not ended, of the whole zone or of its layers.
func UnderWay(tx *store.Tx, placementID uint64) (bool, error) { return tx.SyncUnderWay(placementID) }

// AwaitHosts asks for syncs of the layers at placements, which go ahead of syncs of whole zones. by is who asks.
func AwaitHosts(tx *store.Tx, by string, at ...store.Placement) error { return tx.AwaitHosts(at, by) }

// LastOfHosts returns the newest sync of the layers at a placement.
func LastOfHosts(tx *store.Tx, placementID uint64) (store.Sync, error) {
	return tx.LastSyncOfHosts(placementID)
}

// OfAccount returns the zones that are placed at an account. Those that the provider has not made yet have no ID.
func OfAccount(tx *store.Tx, account uint64) (list []provider.ZoneRef, err error) {
	placed, err := tx.PlacementsAt(account)
	for _, p := range placed {
		list = append(list, provider.ZoneRef{ID: p.Placement.RemoteID, Name: p.Zone.Name()})
	}
	return list, err
}

// PlacedSets returns what was put at a placement at some names, as it was sent.
func PlacedSets(tx *store.Tx, placementID uint64, names []dnsname.Name) (record.Contents, error) {
	return tx.PlacedAt(placementID, names)
}

// ByID finds a sync.
func ByID(tx *store.Tx, id uint64) (store.Sync, error) { return tx.SyncByID(id) }
