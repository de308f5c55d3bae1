package accounts

import (
	"context"
	"fmt"

	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// RenewFormer seals credentials again that a version before 0.1.0 sealed for the name of their account alone, so that from now on they go to the address
// that the account has today and nowhere else. It does so once for a key file.
func (s *Accounts) RenewFormer(ctx context.Context) error {
	if s.seal.FormerRenewed() {
		return nil
	}
	err := s.logbook.Tx(ctx, func(tx *store.Tx) error {
		renewed := 0
		for _, role := range []string{wire.RoleProvider, wire.RoleRegistrar} {
			list, err := tx.Accounts(role)
			if err != nil {
				return err
			}
			for _, a := range list {
				secret, former, err := s.seal.OpenFormer(a.Name, a.Sealed)
				if err != nil || !former {
					continue // it is renewed, or cannot be read: that is told where it is needed
				}
				sealed, err := s.seal.Close(a.Bound(), secret)
				if err != nil {
					return err
				}
				if err := tx.Reseal(a.ID, sealed); err != nil {
					return err
				}
				renewed++
			}
		}
		if renewed == 0 {
			return nil
		}
		return logbook.Log(tx, "service", "key.bound", "credentials", fmt.Sprintf("%d credentials are sealed for the addresses of their accounts", renewed))
	})
	if err != nil {
		return err
	}
	return s.seal.MarkRenewed()
}
