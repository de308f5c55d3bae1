package overview

import (
	"context"

	"beacon/store"
	"beacon/wire"
)

// Standings gives how every placement stands, as it was seen last: of one zone, or of all.
func (s *Overview) Standings(ctx context.Context) (list []wire.PlacementStanding, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		list = []wire.PlacementStanding{}
		rows, err := tx.Standings()
		if err != nil {
			return err
		}
		for _, r := range rows {
			list = append(list, wire.PlacementStanding{Zone: r.Zone.Name(), Account: r.AccountName, PlacementState: stateOf(r.Placement)})
		}
		return nil
	})
	return list, err
}

func stateOf(p store.Placement) wire.PlacementState {
	return wire.PlacementState{Standing: wire.Standing(p.Standing), ToWrite: p.ToWrite, Drifted: p.Drifted, Conflicting: p.Conflicting, Foreign: p.Foreign, Trouble: p.Trouble, LookedAt: p.LookedAt}
}
