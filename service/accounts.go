package service

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"beacon/core/finding"
	"beacon/core/wording"
	"beacon/outcall"
	"beacon/provider"
	"beacon/provider/update"
	"beacon/registrar"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

var accountName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// AddAccount connects an account: it is tried at once, and kept only if that went well.
func (s *Service) AddAccount(ctx context.Context, n wire.NewAccount) (tried wire.Tried, err error) {
	kinds := s.kinds.names()
	if n.Role == wire.RoleRegistrar {
		kinds = sortedKeys(s.drivers.Registrars)
	}
	account := store.Account{Name: n.Name, Role: n.Role, Kind: n.Kind, Address: strings.TrimSuffix(n.Address, "/"), Private: n.Private}
	switch {
	case !accountName.MatchString(n.Name):
		return tried, wire.Problemf(wire.Invalid, "%q is no account name. Use lower-case letters, digits and hyphens, such as heron-main.", n.Name)
	case !slices.Contains(kinds, n.Kind):
		if _, err := s.kinds.build(n.Kind); err != nil {
			return tried, err
		}
		if kinds = s.kinds.names(); n.Role == wire.RoleRegistrar || !slices.Contains(kinds, n.Kind) {
			return tried, wire.Problemf(wire.Invalid, "%q is no kind of %s. The kinds are: %s.", n.Kind, n.Role, strings.Join(kinds, ", "))
		}
	}
	if err := addressFits(n); err != nil {
		return tried, err
	}
	if n.Secret == "" {
		return tried, wire.Problemf(wire.Invalid, "The credential is missing.")
	}
	if tried, err = s.try(ctx, account, n.Secret); err != nil {
		return tried, logbook.Explain(err)
	}
	if account.Sealed, err = s.seal.Close(n.Name, n.Secret); err != nil {
		return tried, err
	}
	account.Rights = rightsText(tried.Rights)
	now := s.wall.Now()
	account.UsedAt = &now
	err = s.Logbook.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.AddAccount(&account); err != nil {
			return err
		}
		return logbook.Log(tx, logbook.Actor(ctx), "account.added", n.Name, fmt.Sprintf("%s %s at %s", n.Role, n.Kind, n.Address))
	})
	if err == nil && n.Role == wire.RoleProvider {
		if err := s.scheduleLooks(ctx); err != nil {
			s.log.Error("looking for drift could not be scheduled", "account", n.Name, "error", err)
		}
	}
	return tried, err
}

// addressFits checks the form of an account's address.
func addressFits(n wire.NewAccount) error {
	if n.Kind == KindSecondaries {
		if _, err := parseSecondaries(n.Address); err != nil {
			return wire.Problemf(wire.Invalid, "%s.", wording.Sentence(err.Error()))
		}
		return nil
	}
	if n.Kind == "update" {
		if _, err := update.Server(n.Address); err != nil {
			return wire.Problemf(wire.Invalid, "%s.", wording.Sentence(err.Error()))
		}
		return nil
	}
	base, err := url.Parse(n.Address)
	if err != nil || base.Scheme != "http" && base.Scheme != "https" || base.Host == "" || base.User != nil {
		return wire.Problemf(wire.Invalid, "%q is no address of an interface. Write it like https://api.provider.example.", n.Address)
	}
	return nil
}

func rightsText(list []string) string {
	if list == nil {
		list = []string{}
	}
	text, _ := json.Marshal(list) // texts always encode
	return string(text)
}

// try makes first requests with a credential.
func (s *Service) try(ctx context.Context, a store.Account, secret string) (t wire.Tried, err error) {
	ctx, cancel := context.WithTimeout(ctx, 2*s.settings.Request)
	defer cancel()
	if a.Role == wire.RoleRegistrar {
		page, err := s.drivers.Registrars[a.Kind](s.client(a, secret)).Domains(ctx, "")
		return wire.Tried{Seen: len(page.Registrations), Rights: []string{}, Findings: []finding.Finding{}}, err
	}
	driver, err := s.driverWith(a, secret)
	if err != nil {
		return t, err
	}
	t = wire.Tried{Seen: -1, Findings: []finding.Finding{}}
	if s.kinds.profile(a.Kind) == nil {
		err = driver.(provider.Prober).Probe(ctx)
	}
	if err == nil && a.Kind != "update" {
		var page provider.ZonePage
		page, err = driver.Zones(ctx, "")
		t.Seen = len(page.Zones)
	}
	if err != nil {
		return t, err
	}
	rights, err := driver.(provider.Holder).Rights(ctx)
	if err != nil {
		return t, err
	}
	for _, r := range rights {
		t.Rights = append(t.Rights, string(r))
	}
	t.Findings = judgeRights(a.Name, t.Rights)
	return t, nil
}

// judgeRights says where a credential may more than is needed, or less.
func judgeRights(account string, rights []string) []finding.Finding {
	found := []finding.Finding{}
	if len(rights) == 0 {
		return found
	}
	if slices.Contains(rights, string(provider.Keys)) {
		found = append(found, finding.Finding{Code: "credential-too-strong", Severity: finding.Warning, Subject: account,
			Message: "The credential may manage credentials, which is never needed here: whoever got hold of it could lock you out.",
			Remedy:  "Make one at the provider that may read and write records (and make zones, if zones are to be made), then give it: beacon provider rotate " + account + "."})
	}
	if !slices.Contains(rights, string(provider.WriteRecords)) {
		found = append(found, finding.Finding{Code: "credential-read-only", Severity: finding.Warning, Subject: account,
			Message: "The credential may only read: zones can be compared, and nothing can be written.",
			Remedy:  "If zones are to be written there, give one that may: beacon provider rotate " + account + "."})
	}
	return found
}

// RotateAccount gives an account another credential. It is tried first, and must see every zone that is placed there; what
// is under way goes on with the old one, which should be withdrawn at the provider only afterwards.
func (s *Service) RotateAccount(ctx context.Context, role, name, secret string) (tried wire.Tried, err error) {
	if secret == "" {
		return tried, wire.Problemf(wire.Invalid, "The credential is missing.")
	}
	var a store.Account
	var placed []store.PlacedZone
	err = s.Logbook.Tx(ctx, func(tx *store.Tx) (err error) {
		if a, err = tx.Account(role, name); err != nil {
			return err
		}
		placed, err = tx.PlacementsToLook(a.ID, s.wall.Now().Add(time.Hour))
		return err
	})
	if err != nil {
		return tried, err
	}
	if tried, err = s.try(ctx, a, secret); err != nil {
		return tried, logbook.Explain(err)
	}
	if role == wire.RoleProvider {
		if len(placed) > 0 && len(tried.Rights) > 0 && !slices.Contains(tried.Rights, string(provider.WriteRecords)) {
			return tried, wire.Problemf(wire.InTheWay, "The new credential may only read, and %s placed at %s. Nothing was changed.", arePlaced(len(placed)), name)
		}
		if err := s.seesAll(ctx, a, secret, placed); err != nil {
			return tried, err
		}
	}
	sealed, err := s.seal.Close(name, secret)
	if err != nil {
		return tried, err
	}
	return tried, s.Logbook.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.SetCredential(a.ID, sealed, tried.Rights); err != nil {
			return err
		}
		return logbook.Log(tx, logbook.Actor(ctx), "account.rotated", name, "it has another credential")
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
func (s *Service) seesAll(ctx context.Context, a store.Account, secret string, placed []store.PlacedZone) error {
	driver, err := s.driverWith(a, secret)
	if err != nil {
		return err
	}
	for _, p := range placed[:min(len(placed), mostLookedFor)] {
		zone, there, err := provider.FindZone(ctx, driver, p.Zone.Name())
		if err != nil {
			return logbook.Explain(err)
		}
		if !there || zone.Ref.ID != p.Placement.RemoteID {
			return wire.Problemf(wire.InTheWay, "The new credential does not see %s, which is placed at %s. Is it one of another customer? Nothing was changed.", p.Zone.Name().Unicode(), a.Name)
		}
	}
	return nil
}

func (s *Service) client(a store.Account, secret string) outcall.Client {
	http, door := s.careful, s.door.Careful()
	if a.Private {
		http, door = s.http, s.door
	}
	return outcall.Client{HTTP: http, Base: a.Address, Account: a.Name, Secret: secret, Observe: s.observe, Dial: door.DialContext}
}

// Accounts gives the accounts of a role.
func (s *Service) Accounts(ctx context.Context, role string) (list []wire.AccountView, err error) {
	err = s.Logbook.Tx(ctx, func(tx *store.Tx) error {
		list = []wire.AccountView{}
		accounts, err := tx.Accounts(role)
		if err != nil {
			return err
		}
		counts, err := tx.PlacementCounts()
		if err != nil {
			return err
		}
		for _, a := range accounts {
			v := wire.AccountView{Account: viewAccount(a), About: aboutDrivers[a.Kind], Rights: a.RightList(), Zones: counts[a.ID].All, Troubled: counts[a.ID].Troubled}
			v.Findings = judgeRights(a.Name, v.Rights)
			if p := s.kinds.profile(a.Kind); p != nil {
				v.About, v.Caps = p.About, &p.Caps
			}
			list = append(list, v)
		}
		return nil
	})
	return list, err
}

func viewAccount(a store.Account) wire.Account {
	return wire.Account{Name: a.Name, Role: a.Role, Kind: a.Kind, Address: a.Address, CreatedAt: a.CreatedAt, Private: a.Private, UsedAt: a.UsedAt, RotatedAt: a.RotatedAt}
}

// providerOf gives the driver of a provider account.
func (s *Service) providerOf(a store.Account) (provider.Driver, error) {
	secret, err := s.seal.Open(a.Name, a.Sealed)
	if err != nil {
		return nil, wire.Problemf(wire.InTheWay, "%s.", err)
	}
	return s.driverWith(a, secret)
}

// driverWith gives the driver of a provider account with a credential, which may be another than the stored one.
func (s *Service) driverWith(a store.Account, secret string) (provider.Driver, error) {
	if a.Kind == KindSecondaries {
		d, err := s.publisherOf(a, secret)
		if err != nil {
			return nil, err
		}
		return provider.Paced(d, s.paceOf(a, 0)), nil
	}
	build, err := s.kinds.build(a.Kind)
	if err != nil {
		return nil, err
	}
	if build == nil {
		return nil, wire.Problemf(wire.InTheWay, "Account %s is of kind %s, which is not known here. Put its profile into the folder of profiles, or use one of: %s.",
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
		return nil, wire.Problemf(wire.InTheWay, "%s.", err)
	}
	build, ok := s.drivers.Registrars[a.Kind]
	if !ok {
		return nil, wire.Problemf(wire.InTheWay, "Account %s is of kind %s, which this version does not know.", a.Name, a.Kind)
	}
	return build(s.client(a, secret)), nil
}

// RemoteZones lists what a provider account holds, whether it is looked after here or not.
func (s *Service) RemoteZones(ctx context.Context, name string) ([]wire.RemoteZone, error) {
	var account store.Account
	err := s.Logbook.Tx(ctx, func(tx *store.Tx) (err error) { account, err = tx.Account(wire.RoleProvider, name); return err })
	if err != nil {
		return nil, err
	}
	driver, err := s.providerOf(account)
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
func (s *Service) Registrations(ctx context.Context, name string) ([]wire.Registration, error) {
	var account store.Account
	err := s.Logbook.Tx(ctx, func(tx *store.Tx) (err error) { account, err = tx.Account(wire.RoleRegistrar, name); return err })
	if err != nil {
		return nil, err
	}
	driver, err := s.registrarOf(account)
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

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
