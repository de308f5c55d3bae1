package accounts

import (
	"context"
	"strings"

	"beacon/core/special"
	"beacon/outcall"
	"beacon/provider"
	"beacon/registrar"
	"beacon/store"
	"beacon/wire"
)

func (s *Accounts) client(a store.Account, secret string) outcall.Client {
	return outcall.Client{HTTP: s.http, Base: a.Address, Hosts: a.HostList(), Account: a.Name, Secret: secret, Observe: s.observe, Dial: s.door.DialContext}
}

// Secret opens the credential of an account.
func (s *Accounts) Secret(a store.Account) (string, error) {
	if a.BaseID != nil {
		err := s.store.Look(context.Background(), func(tx *store.Tx) (err error) { a, err = tx.AccountByID(*a.BaseID); return err })
		if err != nil {
			return "", err
		}
	}
	secret, err := s.seal.Open(a.Bound(), a.Sealed)
	if err != nil {
		return "", wire.Problemf(wire.Blocked, "%s.", err)
	}
	return secret, nil
}

// secured returns a problem where the credential of an account would be sent in plain text, and the settings do not allow that.
func (s *Accounts) secured(a store.Account) error {
	addresses := []string{a.Address}
	for _, address := range a.HostList() {
		addresses = append(addresses, address)
	}
	for _, address := range addresses {
		if host := special.PlainText(address, s.plain); host != "" {
			return wire.Problemf(wire.Blocked, "%s: its address is %s, which would send the credential in plain text. Nothing was sent. Use https://, or allow it in the settings: plain_text: [%s]", a.Name, address, host)
		}
	}
	return nil
}

// Provider returns the driver of a provider account.
func (s *Accounts) Provider(a store.Account) (provider.PacedDriver, error) {
	secret, err := s.Secret(a)
	if err != nil {
		return provider.PacedDriver{}, err
	}
	return s.driverWith(a, secret)
}

// driverWith returns the driver of a provider account with a credential, which may be another than the stored one.
func (s *Accounts) driverWith(a store.Account, secret string) (d provider.PacedDriver, err error) {
	kind, err := s.kindOf(a)
	if err == nil {
		err = s.secured(a)
	}
	if err != nil {
		return d, err
	}
	pace, client := s.paceOf(a, kind.rate), s.client(a, secret)
	client.Slow = pace.Slow
	bare, err := kind.Driver(Connection{ID: a.ID, Name: a.Name, Address: a.Address, Secret: secret, Client: client})
	if err != nil {
		return d, err
	}
	s.lanes.Store(a.ID, kind.Parallel)
	driver := provider.Paced(bare, pace)
	if kind.caps != nil && kind.caps.Another {
		return s.among(a, driver), nil
	}
	return driver, nil
}

// Lane returns how many changes may be under way at an account at the same time; 0 where that is not known.
func (s *Accounts) Lane(account uint64) int {
	n, _ := s.lanes.Load(account)
	most, _ := n.(int)
	return most
}

// kindOf returns the kind of an account, or a problem where it is not known here.
func (s *Accounts) kindOf(a store.Account) (Kind, error) {
	kind, known, err := s.kinds.find(a.Kind)
	if err != nil {
		return kind, err
	}
	if !known || kind.role() != a.Role {
		return kind, wire.Problemf(wire.Blocked, "Account %s is of kind %s, which is not known here. Put its profile into the folder of profiles, or use one of: %s.",
			a.Name, a.Kind, strings.Join(s.kinds.open(a.Role), ", "))
	}
	return kind, nil
}

// Registrar returns the driver of a registrar account.
func (s *Accounts) Registrar(a store.Account) (registrar.Driver, error) {
	secret, err := s.Secret(a)
	if err != nil {
		return nil, err
	}
	return s.registrarWith(a, secret)
}

// registrarWith returns the driver of a registrar account with a credential, which may be another than the stored one.
func (s *Accounts) registrarWith(a store.Account, secret string) (registrar.Driver, error) {
	kind, err := s.kindOf(a)
	if err == nil {
		err = s.secured(a)
	}
	if err != nil {
		return nil, err
	}
	pace, client := s.paceOf(a, kind.rate), s.client(a, secret)
	client.Slow = pace.Slow
	bare, err := kind.Registrar(Connection{ID: a.ID, Name: a.Name, Address: a.Address, Secret: secret, Client: client})
	if err != nil {
		return nil, err
	}
	return registrar.Paced(bare, pace), nil
}
