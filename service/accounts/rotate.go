package accounts

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"beacon/core/access"
	"beacon/provider"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// RotateAccount returns an account another credential. It is tried first, and must see every zone that is placed there; what
// is under way goes on with the old one, which should be withdrawn at the provider only afterwards.
func (s *Accounts) RotateAccount(ctx context.Context, by access.Caller, name string, n wire.NewCredential) (tried wire.Tried, err error) {
	if err := wire.Permit(by, access.Connect, access.Everything); err != nil {
		return tried, err
	}
	role := n.Role
	var a store.Account
	var placed []provider.ZoneRef
	err = s.logbook.Tx(ctx, func(tx *store.Tx) (err error) {
		if a, err = tx.Account(role, name); err != nil {
			return err
		}
		placed, err = s.placed(tx, a.ID)
		return err
	})
	if err != nil {
		return tried, err
	}
	if a.BaseID != nil {
		base, _, _ := strings.Cut(name, "/")
		return tried, wire.Problemf(wire.Blocked, "%s has the credential of %s. Give that one a new credential: beacon provider rotate %s. Nothing was changed.", name, base, base)
	}
	kind, err := s.kindOf(a)
	if err != nil {
		return tried, err
	}
	secret, err := kind.credential(n.Secret, n.Parts)
	if err != nil {
		return tried, err
	}
	if tried, err = s.try(ctx, a, secret); err != nil {
		return tried, logbook.Explain(err)
	}
	if role == wire.RoleProvider {
		if len(placed) > 0 && len(tried.Rights) > 0 && !slices.Contains(tried.Rights, string(provider.WriteRecords)) {
			return tried, wire.Problemf(wire.Blocked, "The new credential may only read, and %s placed at %s. Nothing was changed.", arePlaced(len(placed)), name)
		}
		if err := s.seesAll(ctx, a, secret, placed); err != nil {
			return tried, err
		}
	}
	sealed, err := s.seal.Close(a.Bound(), secret)
	if err != nil {
		return tried, err
	}
	return tried, s.logbook.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.SetCredential(a.ID, sealed, tried.Rights); err != nil {
			return err
		}
		return logbook.Log(tx, by.Name, "account.rotated", name, "it has another credential")
	})
}

func arePlaced(n int) string {
	if n == 1 {
		return "a zone is"
	}
	return fmt.Sprintf("%d zones are", n)
}

// mostLookedFor is for how many zones a new credential is tried.
const mostLookedFor = 20

// seesAll refuses a credential that does not reach what is placed at an account.
func (s *Accounts) seesAll(ctx context.Context, a store.Account, secret string, placed []provider.ZoneRef) error {
	driver, err := s.driverWith(a, secret)
	if err != nil {
		return err
	}
	for _, p := range placed[:min(len(placed), mostLookedFor)] {
		zone, there, err := provider.FindZone(ctx, driver, p.Name)
		if err != nil {
			return logbook.Explain(err)
		}
		if !there || zone.Ref.ID != p.ID {
			return wire.Problemf(wire.Blocked, "The new credential does not see %s, which is placed at %s. Is it one of another customer? Nothing was changed.", p.Name.Unicode(), a.Name)
		}
	}
	return nil
}
