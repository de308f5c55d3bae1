package accounts

import (
	"beacon/store"
	"beacon/wire"
)

// ByID finds an account.
func ByID(tx *store.Tx, id uint64) (store.Account, error) { return tx.AccountByID(id) }

// ByName finds an account of a role.
func ByName(tx *store.Tx, role, name string) (store.Account, error) { return tx.Account(role, name) }

// Providers lists the provider accounts.
func Providers(tx *store.Tx) ([]store.Account, error) { return tx.Accounts(wire.RoleProvider) }
