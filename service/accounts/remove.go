package accounts

import (
	"context"
	"fmt"

	"beacon/core/access"
	"beacon/core/wording"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// RemoveAccount forgets an account and its credential. One that is used is not removed: zones are placed there, or name it as their registrar.
func (s *Accounts) RemoveAccount(ctx context.Context, by access.Caller, role, name string) error {
	if err := wire.Permit(by, access.Connect, access.Everything); err != nil {
		return err
	}
	return s.logbook.Tx(ctx, func(tx *store.Tx) error {
		a, err := tx.LockAccount(role, name)
		if err != nil {
			return err
		}
		placed, registered, example, err := tx.UsesOf(a.ID)
		if err != nil {
			return err
		}
		switch {
		case placed > 0:
			return wire.Problemf(wire.Blocked, "Account %s is used: %s placed there, such as %s. Retire them first: beacon zone retire %s --account %s. Nothing was changed.",
				name, wording.Counted(placed, "zone"), example.Unicode(), example.Unicode(), name)
		case registered > 0:
			return wire.Problemf(wire.Blocked, "Account %s is used: %s name it as their registrar, such as %s. Name another one in their definitions first. Nothing was changed.",
				name, wording.Counted(registered, "zone"), example.Unicode())
		}
		family, err := tx.AccountFamily(a.ID)
		if err != nil {
			return err
		}
		if a.BaseID == nil && len(family) > 1 {
			return wire.Problemf(wire.Blocked, "%s is a further set of zones at %s, with its credential. Remove it first: beacon provider remove %s. Nothing was changed.", family[1].Name, name, family[1].Name)
		}
		if err := tx.DeleteAccount(a.ID); err != nil {
			return err
		}
		return logbook.Log(tx, by.Name, "account.removed", name, fmt.Sprintf("%s %s at %s; its credential is forgotten here", role, a.Kind, a.Address))
	})
}
