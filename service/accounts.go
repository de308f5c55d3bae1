package service

import (
	"context"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/outcall"
	"beacon/provider"
	"beacon/registrar"
	"beacon/store"
)

// The roles of accounts.
const (
	RoleProvider  = "provider"
	RoleRegistrar = "registrar"
)

// NewAccount is what is needed to connect an account.
type NewAccount struct {
	Name    string
	Role    string
	Kind    string
	Address string // base address of the interface
	Secret  string
}

var accountName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// AddAccount connects an account: it is tried at once, and kept only if that went well. It gives how many zones or
// domains the credential can see.
func (s *Service) AddAccount(ctx context.Context, n NewAccount) (seen int, err error) {
	kinds := s.kinds.names()
	if n.Role == RoleRegistrar {
		kinds = sortedKeys(s.drivers.Registrars)
	}
	base, parseErr := url.Parse(n.Address)
	switch {
	case !accountName.MatchString(n.Name):
		return 0, problem(Invalid, "%q is no account name. Use lower-case letters, digits and hyphens, such as heron-main.", n.Name)
	case !slices.Contains(kinds, n.Kind):
		return 0, problem(Invalid, "%q is no kind of %s. The kinds are: %s.", n.Kind, n.Role, strings.Join(kinds, ", "))
	case parseErr != nil || base.Scheme != "http" && base.Scheme != "https" || base.Host == "" || base.User != nil:
		return 0, problem(Invalid, "%q is no address of an interface. Write it like https://api.provider.example.", n.Address)
	case n.Secret == "":
		return 0, problem(Invalid, "The credential is missing.")
	}
	account := store.Account{Name: n.Name, Role: n.Role, Kind: n.Kind, Address: strings.TrimSuffix(n.Address, "/")}
	if seen, err = s.try(ctx, account, n.Secret); err != nil {
		return 0, explain(err)
	}
	if account.Sealed, err = s.seal.Close(n.Name, n.Secret); err != nil {
		return 0, err
	}
	return seen, s.tx(ctx, func(tx *store.Tx) error {
		if err := tx.AddAccount(&account); err != nil {
			return err
		}
		return tx.Log(actor(ctx), "account.added", n.Name, fmt.Sprintf("%s %s at %s", n.Role, n.Kind, n.Address))
	})
}

// try makes a first request with a credential.
func (s *Service) try(ctx context.Context, a store.Account, secret string) (int, error) {
	if a.Role == RoleRegistrar {
		page, err := s.drivers.Registrars[a.Kind](s.client(a, secret)).Domains(ctx, "")
		return len(page.Registrations), err
	}
	driver, err := s.driverWith(a, secret)
	if err != nil {
		return 0, err
	}
	page, err := driver.Zones(ctx, "")
	return len(page.Zones), err
}

func (s *Service) client(a store.Account, secret string) outcall.Client {
	return outcall.Client{HTTP: s.http, Base: a.Address, Account: a.Name, Secret: secret, Observe: s.observe}
}

// Accounts gives the accounts of a role.
func (s *Service) Accounts(ctx context.Context, role string) (list []store.Account, err error) {
	err = s.tx(ctx, func(tx *store.Tx) error {
		list, err = tx.Accounts(role)
		return err
	})
	return list, err
}

// providerOf gives the driver of a provider account.
func (s *Service) providerOf(a store.Account) (provider.Driver, error) {
	secret, err := s.seal.Open(a.Name, a.Sealed)
	if err != nil {
		return nil, problem(InTheWay, "%s.", err)
	}
	return s.driverWith(a, secret)
}

// driverWith gives the driver of a provider account with a credential, which may be another than the stored one.
func (s *Service) driverWith(a store.Account, secret string) (provider.Driver, error) {
	build, err := s.kinds.build(a.Kind)
	if err != nil {
		return nil, err
	}
	if build == nil {
		return nil, problem(InTheWay, "Account %s is of kind %s, which is not known here. Put its profile into the folder of profiles, or use one of: %s.",
			a.Name, a.Kind, strings.Join(s.kinds.names(), ", "))
	}
	perSecond := 0.0
	if p := s.kinds.profile(a.Kind); p != nil {
		perSecond = p.Caps.Rate
	}
	return provider.Paced(build(s.client(a, secret)), s.paceOf(a, perSecond)), nil
}

// registrarOf gives the driver of a registrar account.
func (s *Service) registrarOf(a store.Account) (registrar.Driver, error) {
	secret, err := s.seal.Open(a.Name, a.Sealed)
	if err != nil {
		return nil, problem(InTheWay, "%s.", err)
	}
	build, ok := s.drivers.Registrars[a.Kind]
	if !ok {
		return nil, problem(InTheWay, "Account %s is of kind %s, which this version does not know.", a.Name, a.Kind)
	}
	return build(s.client(a, secret)), nil
}

// RemoteZone is a zone as a provider account lists it.
type RemoteZone struct {
	Name        dnsname.Name   `json:"name"`
	ID          string         `json:"id"`
	Nameservers []dnsname.Name `json:"nameservers"`
}

// RemoteZones lists what a provider account holds, whether it is looked after here or not.
func (s *Service) RemoteZones(ctx context.Context, name string) ([]RemoteZone, error) {
	var account store.Account
	err := s.tx(ctx, func(tx *store.Tx) (err error) { account, err = tx.Account(RoleProvider, name); return err })
	if err != nil {
		return nil, err
	}
	driver, err := s.providerOf(account)
	if err != nil {
		return nil, err
	}
	list := []RemoteZone{}
	for cursor := provider.Cursor(""); ; {
		page, err := driver.Zones(ctx, cursor)
		if err != nil {
			return nil, explain(err)
		}
		for _, z := range page.Zones {
			list = append(list, RemoteZone{z.Ref.Name, z.Ref.ID, z.Nameservers})
		}
		if cursor = page.Next; cursor == "" {
			return list, nil
		}
	}
}

// Registrations lists what a registrar account holds.
func (s *Service) Registrations(ctx context.Context, name string) ([]registrar.Registration, error) {
	var account store.Account
	err := s.tx(ctx, func(tx *store.Tx) (err error) { account, err = tx.Account(RoleRegistrar, name); return err })
	if err != nil {
		return nil, err
	}
	driver, err := s.registrarOf(account)
	if err != nil {
		return nil, err
	}
	list := []registrar.Registration{}
	for cursor := registrar.Cursor(""); ; {
		page, err := driver.Domains(ctx, cursor)
		if err != nil {
			return nil, explain(err)
		}
		list = append(list, page.Registrations...)
		if cursor = page.Next; cursor == "" {
			return list, nil
		}
	}
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
