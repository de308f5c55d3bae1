package accounts

import (
	"context"
	"fmt"

	"beacon/reach"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// KeyRotation returns which credentials are sealed again.
type KeyRotation struct {
	Database store.Settings
	KeyFile  string
	Reach    []string // networks that may be reached
}

// RotateKey seals every stored credential with a new key. Instances may run meanwhile: they find the new key in the file. It
// can be broken off anywhere and started again.
func RotateKey(ctx context.Context, s KeyRotation) (accounts int, err error) {
	door, err := reach.New(s.Reach)
	if err != nil {
		return 0, fmt.Errorf("the setting allowed_networks: %w", err)
	}
	seal, err := store.OpenSeal(s.KeyFile, 1)
	if err != nil {
		return 0, err
	}
	db, err := store.Open(ctx, s.Database, door.Local(), nil)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	if err := seal.Renew(); err != nil {
		return 0, fmt.Errorf("the key file %s cannot be renewed: %w", s.KeyFile, err)
	}
	err = db.Tx(ctx, func(tx *store.Tx) error {
		accounts = 0
		for _, role := range []string{wire.RoleProvider, wire.RoleRegistrar} {
			list, err := tx.Accounts(role)
			if err != nil {
				return err
			}
			for _, a := range list {
				secret, err := seal.Open(a.Bound(), a.Sealed)
				if err != nil {
					return err
				}
				sealed, err := seal.Close(a.Bound(), secret)
				if err != nil {
					return err
				}
				if err := tx.Reseal(a.ID, sealed); err != nil {
					return err
				}
				accounts++
			}
		}
		keys, err := tx.AllTSIGKeys()
		if err != nil {
			return err
		}
		for _, k := range keys {
			secret, err := seal.Open(k.Bound(), k.Sealed)
			if err != nil {
				return err
			}
			sealed, err := seal.Close(k.Bound(), secret)
			if err != nil {
				return err
			}
			if err := tx.ResealTSIGKey(k.ID, sealed); err != nil {
				return err
			}
			accounts++
		}
		return logbook.Log(tx, "service", "key.renewed", "credentials", fmt.Sprintf("%d credentials are sealed with a new key", accounts))
	})
	if err != nil {
		return 0, err
	}
	return accounts, seal.Forget()
}
