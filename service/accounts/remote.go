package accounts

import (
	"context"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/outcall"
	"beacon/provider"
	"beacon/registrar"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// RemoteZones lists what a provider account holds, whether it is looked after here or not.
func (s *Accounts) RemoteZones(ctx context.Context, by access.Caller, name string) ([]wire.RemoteZone, error) {
	if err := wire.Permit(by, access.See, access.Everything); err != nil {
		return nil, err
	}
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
	zones, err := provider.AllZones(ctx, driver)
	for _, z := range zones {
		list = append(list, wire.RemoteZone{Name: z.Ref.Name, ID: z.Ref.ID, Nameservers: z.Nameservers})
	}
	return list, logbook.Explain(err)
}

// Registrations lists what a registrar account holds.
func (s *Accounts) Registrations(ctx context.Context, by access.Caller, name string) ([]wire.Registration, error) {
	if err := wire.Permit(by, access.See, access.Everything); err != nil {
		return nil, err
	}
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
	err = outcall.Pages(ctx, func(ctx context.Context, cursor registrar.Cursor) (registrar.Cursor, error) {
		page, err := driver.Domains(ctx, cursor)
		for _, r := range page.Registrations {
			list = append(list, wire.Registration{Name: r.Name, Saved: r.Saved, Active: r.Active, Expires: r.Expires, Status: r.Status})
		}
		return page.Next, err
	})
	if err != nil {
		return nil, logbook.Explain(err)
	}
	names := make([]dnsname.Name, len(list))
	for i, r := range list {
		names[i] = r.Name
	}
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		managed, err := s.managed(tx, names)
		for i := range list {
			list[i].Managed = managed[list[i].Name]
		}
		return err
	})
	return list, err
}

// PendingWords returns what a registrar has accepted and not done yet, in its words.
func PendingWords(r registrar.Registration) (list []string) {
	for _, o := range r.Pending {
		what := o.What
		if what == "" {
			what = "operation " + o.ID
		}
		list = append(list, what)
	}
	return list
}
