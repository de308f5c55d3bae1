package accounts

import (
	"context"
	"regexp"
	"slices"
	"strings"

	"beacon/provider"
	"beacon/store"
	"beacon/wire"
)

// A further set of zones at an account has a row of its own, named after it: ACCOUNT/2. It has the credential and the pace of the account, and sees only zones that are
// placed with it: so a zone can be there twice, each time with nameservers of its own.
var furtherName = regexp.MustCompile(`^(.+)/([2-9])$`)

// Named finds a provider account, or a further set of zones at one; a set that nothing was placed with yet is returned with the ID 0.
func (s *Accounts) Named(tx *store.Tx, name string) (store.Account, error) {
	a, err := tx.Account(wire.RoleProvider, name)
	m := furtherName.FindStringSubmatch(name)
	if m == nil || !store.IsMissing(err) {
		return a, err
	}
	base, err := tx.Account(wire.RoleProvider, m[1])
	if err != nil {
		return a, err
	}
	if kind, _, err := s.kinds.find(base.Kind); err != nil || kind.caps == nil || !kind.caps.Another {
		return a, wire.Problemf(wire.Invalid, "A zone can be at %s only once: its provider makes no second one of the same name. Nothing was changed.", m[1])
	}
	id := base.ID
	base.ID, base.Name, base.BaseID, base.Sealed, base.UsedAt, base.RotatedAt = 0, name, &id, []byte{}, nil, nil
	return base, nil
}

// Ensured is Named for what is placed now: a set that is new is kept.
func (s *Accounts) Ensured(tx *store.Tx, name string) (store.Account, error) {
	a, err := s.Named(tx, name)
	if err == nil && a.ID == 0 {
		err = tx.AddAccount(&a)
	}
	return a, err
}

// Further returns the name of another set of zones at an account, where its provider can have a zone twice; empty otherwise.
func (s *Accounts) Further(name string) string {
	base, _, _ := strings.Cut(name, "/")
	var a store.Account
	err := s.store.Look(context.Background(), func(tx *store.Tx) (err error) { a, err = tx.Account(wire.RoleProvider, base); return err })
	if kind, _, kindErr := s.kinds.find(a.Kind); err != nil || kindErr != nil || kind.caps == nil || !kind.caps.Another {
		return ""
	}
	if name == base {
		return base + "/2"
	}
	return base
}

// baseOf returns the account that a set of zones belongs to: itself, where it is one.
func baseOf(a store.Account) uint64 {
	if a.BaseID != nil {
		return *a.BaseID
	}
	return a.ID
}

// among narrows the driver of an account whose provider can have a zone twice to the zones of one set.
func (s *Accounts) among(a store.Account, driver provider.PacedDriver) provider.PacedDriver {
	return driver.Among(func(ctx context.Context, z provider.Zone) (mine bool, err error) {
		err = s.store.Look(ctx, func(tx *store.Tx) error {
			family, err := tx.AccountFamily(baseOf(a))
			if err != nil {
				return err
			}
			mine = a.BaseID == nil // what nobody placed is the account's own
			unknown := false
			for _, one := range family {
				refs, err := s.all(tx, one.ID)
				if err != nil {
					return err
				}
				for _, ref := range refs {
					switch {
					case ref.Name != z.Ref.Name:
					case ref.ID == z.Ref.ID:
						mine = one.ID == a.ID
						return nil
					case ref.ID == "" && one.ID == a.ID && a.BaseID != nil:
						mine = true // made, and not noted yet; unless another set is to be found first
					case ref.ID == "":
						unknown = true
					}
				}
			}
			if unknown && a.BaseID != nil {
				return wire.Problemf(wire.Blocked, "Which zone %s of this account is which is not known yet: the first one has to be synced once. It is tried again.", z.Ref.Name.Unicode())
			}
			return nil
		})
		return mine, err
	}, a.BaseID != nil)
}

// placed returns the zones that are placed at an account and that its provider has.
func (s *Accounts) placed(tx *store.Tx, account uint64) ([]provider.ZoneRef, error) {
	refs, err := s.all(tx, account)
	return slices.DeleteFunc(refs, func(r provider.ZoneRef) bool { return r.ID == "" }), err
}
