package overview

import (
	"context"

	"beacon/core/dnsname"
	"beacon/store"
	"beacon/wire"
)

// mostPlacements is how many placements one zone can have in a list: one for each account.
const mostPlacements = 1000

// Standings returns how placements were when they were looked at last: those of at least one zone behind a name, and about limit of them,
// in canonical order of the zones. next is the zone that the next page begins behind; the zero name where there is none.
func (s *Overview) Standings(ctx context.Context, after dnsname.Name, limit int) (list []wire.PlacementStanding, next dnsname.Name, err error) {
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		list, next = []wire.PlacementStanding{}, dnsname.Name{}
		rows, err := tx.PlacementsAfter(after, limit+mostPlacements)
		if err != nil {
			return err
		}
		for i, r := range rows {
			zone := dnsname.FromKey(r.NameKey)
			if i >= limit && zone != list[len(list)-1].Zone { // what is in one zone stays on one page
				next = list[len(list)-1].Zone
				return nil
			}
			list = append(list, wire.PlacementStanding{Zone: zone, Account: r.AccountName, PlacementState: stateOf(r.Placement)})
		}
		return nil
	})
	return list, next, err
}

func stateOf(p store.Placement) wire.PlacementState {
	return wire.PlacementState{Standing: wire.Standing(p.Standing), ToWrite: p.ToWrite, Drifted: p.Drifted, Conflicting: p.Conflicting, Foreign: p.Foreign, Trouble: p.Trouble, LookedAt: p.LookedAt}
}
