package overview

import (
	"context"

	"beacon/core/access"
	"beacon/store"
	"beacon/wire"
)

// Accounts returns the accounts of a role, with how many zones are placed at each, and how many of those drifted or cannot be reached.
func (s *Overview) Accounts(ctx context.Context, by access.Caller, role string) (list []wire.AccountView, err error) {
	if err := wire.Permit(by, access.See, access.Everything); err != nil {
		return nil, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		list = []wire.AccountView{}
		rows, err := s.accounts.List(tx, role)
		if err != nil {
			return err
		}
		counts, err := tx.PlacementCounts()
		if err != nil {
			return err
		}
		for _, a := range rows {
			v := s.accounts.View(a)
			v.Zones, v.Troubled = counts[a.ID].All, counts[a.ID].Troubled
			list = append(list, v)
		}
		return nil
	})
	return list, err
}
