package overview

import (
	"context"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/store"
	"beacon/wire"
)

// PlacementViews returns how the placements of at most limit zones behind a name were when they were looked at last, in canonical order of the
// zones. next is the zone that the next page begins behind; the zero name where there is none.
func (s *Overview) PlacementViews(ctx context.Context, by access.Caller, after dnsname.Name, limit int) (list []wire.PlacementView, next dnsname.Name, err error) {
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		tx.Narrow(access.Where(by, access.See))
		list, next = []wire.PlacementView{}, dnsname.Name{}
		zones, err := tx.PlacedZonesAfter(after, limit+1)
		if err != nil {
			return err
		}
		if len(zones) > limit {
			zones = zones[:limit]
			next = zones[limit-1].Name()
		}
		ids := make([]uint64, len(zones))
		for i, z := range zones {
			ids[i] = z.ID
		}
		placements, err := tx.PlacementsOf(ids)
		if err != nil {
			return err
		}
		for _, z := range zones {
			for _, p := range placements[z.ID] {
				list = append(list, wire.PlacementView{Zone: z.Name(), Account: p.AccountName, PlacementLook: lookOf(p.Placement)})
			}
		}
		return nil
	})
	return list, next, err
}

func lookOf(p store.Placement) wire.PlacementLook {
	return wire.PlacementLook{State: wire.PlacementState(p.State), Pending: p.Pending, Drifted: p.Drifted, Conflicting: p.Conflicting, Foreign: p.Foreign, Trouble: p.Trouble, LookedAt: p.LookedAt}
}
