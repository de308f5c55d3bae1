package accounts

import (
	"context"

	"beacon/provider"
	"beacon/registrar"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// RemoteZones lists what a provider account holds, whether it is looked after here or not.
func (s *Accounts) RemoteZones(ctx context.Context, name string) ([]wire.RemoteZone, error) {
	var account store.Account
	err := s.logbook.Tx(ctx, func(tx *store.Tx) (err error) { account, err = tx.Account(wire.RoleProvider, name); return err })
	if err != nil {
		return nil, err
	}
	driver, err := s.Provider(account)
	if err != nil {
		return nil, err
	}
	list := []wire.RemoteZone{}
	for cursor := provider.Cursor(""); ; {
		page, err := driver.Zones(ctx, cursor)
		if err != nil {
			return nil, logbook.Explain(err)
		}
		for _, z := range page.Zones {
			list = append(list, wire.RemoteZone{Name: z.Ref.Name, ID: z.Ref.ID, Nameservers: z.Nameservers})
		}
		if cursor = page.Next; cursor == "" {
			return list, nil
		}
	}
}

// Registrations lists what a registrar account holds.
func (s *Accounts) Registrations(ctx context.Context, name string) ([]wire.Registration, error) {
	var account store.Account
	err := s.logbook.Tx(ctx, func(tx *store.Tx) (err error) { account, err = tx.Account(wire.RoleRegistrar, name); return err })
	if err != nil {
		return nil, err
	}
	driver, err := s.Registrar(account)
	if err != nil {
		return nil, err
	}
	list := []wire.Registration{}
	for cursor := registrar.Cursor(""); ; {
		page, err := driver.Domains(ctx, cursor)
		if err != nil {
			return nil, logbook.Explain(err)
		}
		for _, r := range page.Registrations {
			list = append(list, wire.Registration(r))
		}
		if cursor = page.Next; cursor == "" {
			return list, nil
		}
	}
}
