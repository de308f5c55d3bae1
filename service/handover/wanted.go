package handover

import (
	"beacon/core/dnsname"
	"beacon/service/check"
	"beacon/service/zones"
	"beacon/store"
)

// WantPlacements makes the nameservers of all placements those that the domain shall be delegated to.
func (s *Handover) WantPlacements(tx *store.Tx, zoneID uint64) error {
	placements, err := zones.Placements(tx, zoneID)
	if err != nil {
		return err
	}
	var all []dnsname.Name
	for _, p := range placements {
		all = append(all, p.Names()...)
	}
	d, err := check.DomainOf(tx, zoneID)
	if err != nil {
		return err
	}
	return check.SetWanted(tx, d.ID, dnsname.SortSet(all))
}
