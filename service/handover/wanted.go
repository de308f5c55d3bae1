package handover

import (
	"beacon/core/dnsname"
	"beacon/store"
)

// WantPlacements makes the nameservers of all placements those that the domain shall be delegated to.
func (s *Handover) WantPlacements(tx *store.Tx, zoneID uint64) error {
	placements, err := tx.Placements(zoneID)
	if err != nil {
		return err
	}
	var all []dnsname.Name
	for _, p := range placements {
		all = append(all, p.Names()...)
	}
	d, err := tx.EnsureDomain(zoneID)
	if err != nil {
		return err
	}
	return tx.SetWanted(d.ID, dnsname.SortSet(all))
}
