package zones

import (
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/store"
)

// ByName finds a zone.
func ByName(tx *store.Tx, name dnsname.Name) (store.Zone, error) { return tx.Zone(name) }

// ByID finds a zone.
func ByID(tx *store.Tx, id uint64) (store.Zone, error) { return tx.ZoneByID(id) }

// Lock finds a zone and keeps others from it until the transaction ends.
func Lock(tx *store.Tx, name dnsname.Name) (store.Zone, error) { return tx.LockZone(name) }

// Managed returns which of some zones are managed here.
func Managed(tx *store.Tx, names []dnsname.Name) (map[dnsname.Name]bool, error) {
	return tx.ZonesAmong(names)
}

// Delete forgets a zone and all that is known of it here.
func Delete(tx *store.Tx, id uint64) error { return tx.DeleteZone(id) }

// Detach has a zone managed here and no longer by its file.
func Detach(tx *store.Tx, z store.Zone) error { return tx.Detach(z.ID) }

// PlacedAt returns the names of the accounts that a zone is placed at.
func PlacedAt(tx *store.Tx, id uint64) ([]string, error) { return tx.AccountsOf(id) }

// Set records what a definition says of a zone besides its records.
func Set(tx *store.Tx, id uint64, said store.ZoneSaid) (changed bool, err error) {
	return tx.SetZone(id, said)
}

// Contents returns the contents of a revision.
func Contents(tx *store.Tx, revisionID uint64) (record.Contents, error) {
	return tx.Contents(revisionID)
}

// RecordsAt returns the records of one name of a zone, as they can be searched.
func RecordsAt(tx *store.Tx, zoneID uint64, name dnsname.Name) ([]record.Record, error) {
	return tx.RecordsAt(zoneID, name)
}

// Drafted returns how many edits the draft of a zone has.
func Drafted(tx *store.Tx, zoneID uint64) (int, error) {
	edits, err := tx.DraftEdits(zoneID)
	return len(edits), err
}

// KeepKits keeps the kits of definitions that were taken.
func KeepKits(tx *store.Tx, kits []definition.Kit) error { return tx.KeepKits(kitTexts(kits)) }

// OfBulkChange returns the zones that a bulk change changed. It keeps others from the bulk change until the transaction ends.
func OfBulkChange(tx *store.Tx, id uint64) ([]store.Zone, error) {
	if _, err := tx.LockOperation(id); err != nil {
		return nil, err
	}
	changed, err := tx.OperationZones(id)
	if err != nil {
		return nil, err
	}
	list := make([]store.Zone, 0, len(changed))
	for _, c := range changed {
		z, err := tx.ZoneByID(c.ZoneID)
		if err != nil {
			return nil, err
		}
		list = append(list, z)
	}
	return list, nil
}

// Placements returns the placements of a zone in the order in which they were made.
func Placements(tx *store.Tx, zoneID uint64) ([]store.Placement, error) {
	return tx.Placements(zoneID)
}

// PlacementsIn returns the placements of some zones, by zone.
func PlacementsIn(tx *store.Tx, zones []uint64) (map[uint64][]store.Placement, error) {
	return tx.PlacementsIn(zones)
}

// LockPlacements keeps others from placements until the transaction ends. What refers to placements locks them first: to refer to
// one takes a shared lock, and two that hold that cannot both go on to change it.
func LockPlacements(tx *store.Tx, list []store.Placement) error { return tx.LockPlacements(list) }

// PlacementByID finds a placement.
func PlacementByID(tx *store.Tx, id uint64) (store.Placement, error) { return tx.PlacementByID(id) }

// Place makes sure that a zone has a placement at an account.
func Place(tx *store.Tx, zoneID, accountID uint64) (store.Placement, error) {
	return tx.Place(zoneID, accountID)
}

// SetRemote records how the provider of a placement names the zone, and the nameservers that it assigned.
func SetRemote(tx *store.Tx, placementID uint64, remoteID string, nameservers []dnsname.Name) error {
	return tx.SetRemote(placementID, remoteID, nameservers)
}

// Tell has the apex NS set of a zone at a provider name other nameservers, with the next sync.
func Tell(tx *store.Tx, placementID uint64, nameservers []dnsname.Name) error {
	return tx.Tell(placementID, nameservers)
}

// Lower keeps which TTLs are lowered at a placement, from the next sync on.
func Lower(tx *store.Tx, placementID uint64, l store.LoweredTTLs) error {
	return tx.Lower(placementID, l)
}

// Unlower forgets what was lowered at the placements of a zone.
func Unlower(tx *store.Tx, zoneID uint64) error { return tx.Unlower(zoneID) }

// RemovePlacement forgets a placement and all that is known of it.
func RemovePlacement(tx *store.Tx, id uint64) error { return tx.RemovePlacement(id) }
