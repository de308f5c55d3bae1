// Package service holds the use cases: the one place where core, store and the outside meet. Each file is one of them;
// work.go runs what happens in the background. Whoever starts something, the API, the CLI or a schedule, it goes
// through here, and every write to a provider goes through sync.go.
package service

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"strings"

	"beacon/clock"
	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/record"
	"beacon/core/soa"
	"beacon/core/special"
	"beacon/reach"
	"beacon/resolve"
	"beacon/service/accounts"
	"beacon/service/acts"
	"beacon/service/aliases"
	"beacon/service/apply"
	"beacon/service/check"
	"beacon/service/delegate"
	"beacon/service/gather"
	"beacon/service/handover"
	"beacon/service/hosts"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/notify"
	"beacon/service/overview"
	"beacon/service/secondaries"
	"beacon/service/sync"
	"beacon/service/updates"
	"beacon/service/users"
	"beacon/service/zones"
	"beacon/store"
	"beacon/visit"
)

// Drivers make drivers for accounts, by kind.
type Drivers struct {
	Kinds map[string]accounts.Kind // of accounts, besides those that profiles describe
	// Evaluator is the command that starts a worker for the expressions of profiles; it ends up in jq.Work.
	Evaluator []string
}

// Service is a running instance. It is safe for concurrent use.
type Service struct {
	settings    Settings
	log         *slog.Logger
	store       *store.Store
	http        *http.Client
	dns         *resolve.Client
	sweeper     *resolve.Sweeper
	visitor     *visit.Visitor
	world       *clock.World
	metrics     *metrics
	health      *health
	journal     *acts.Journal
	door        *reach.Door
	Logbook     *logbook.Book
	Acts        *acts.Acts
	Overview    *overview.Overview
	Delegations *delegate.Delegations
	Handover    *handover.Handover
	Gather      *gather.Gather
	Checks      *check.Checks
	Hosts       *hosts.Hosts
	Updates     *updates.Updates
	Aliases     *aliases.Aliases
	Apply       *apply.Applier
	Secondaries *secondaries.Secondaries
	Syncs       *sync.Syncs
	Zones       *zones.Zones
	Accounts    *accounts.Accounts
	Notify      *notify.Notifier
	Users       *users.Users
	Jobs        *jobs.Queue
}

// Open connects everything that an instance needs. Close gives it back.
func Open(ctx context.Context, settings Settings, drivers Drivers, log *slog.Logger) (*Service, error) {
	door, err := reach.New(settings.AllowedNetworks)
	if err != nil {
		return nil, fmt.Errorf("the setting allowed_networks: %w", err)
	}
	hintText, err := os.ReadFile(settings.DNS.RootHints)
	if err != nil {
		return nil, fmt.Errorf("the setting dns.roots: %w", err)
	}
	hints, err := resolve.ReadHints(string(hintText), settings.DNS.Port)
	if err != nil {
		return nil, fmt.Errorf("the setting dns.roots: %w", err)
	}
	s := &Service{settings: settings, log: log, world: &clock.World{}, metrics: newMetrics(), health: newHealth()}
	house, err := zones.ReadHouseKit(settings.NewZones)
	if err != nil {
		return nil, err
	}
	s.door = door
	s.http = door.HTTPClient(settings.Request)
	if settings.WorldClock != "" {
		if _, err := s.world.Follow(ctx, s.http, settings.WorldClock); err != nil {
			return nil, fmt.Errorf("the setting world_clock: %w", err)
		}
	}
	if s.store, err = store.Open(ctx, settings.Database, door.Local(), nil); err != nil {
		return nil, err
	}
	s.world.By(s.store.Now)
	s.Logbook = logbook.New(s.store, log)
	s.Jobs = jobs.New(s.store, s.world, log, settings.Lease, s.metrics.jobs)
	s.journal = acts.NewJournal(settings.writesFile())
	s.Acts = acts.New(s.store, s.Logbook, s.Jobs, log, settings.Request, settings.Lease)
	s.Users = users.New(s.Logbook)
	if err := s.openAccounts(drivers); err != nil {
		s.store.Close()
		return nil, err
	}
	parameters, err := soa.Parse(settings.SOA)
	if err != nil {
		s.store.Close()
		return nil, fmt.Errorf("soa: %w", err)
	}
	directory, err := settings.directory()
	if err != nil {
		s.store.Close()
		return nil, err
	}
	options, anchors, err := settings.DNS.read()
	if err != nil {
		s.store.Close()
		return nil, err
	}
	if s.dns, err = resolve.NewClient(door, options); err != nil {
		s.store.Close()
		return nil, err
	}
	s.sweeper = &resolve.Sweeper{Client: s.dns, Hints: hints, Port: settings.DNS.Port, Resolvers: settings.Resolvers, Anchors: anchors, Now: s.world.Now}
	s.Zones = zones.New(zones.Parts{Store: s.store, Logbook: s.Logbook, Accounts: s.Accounts, House: house, Believe: settings.Hosts.AllowedNetworks, Timeout: settings.Request, SOA: parameters, Revised: func(tx *store.Tx, z store.Zone, c record.Contents) error { return s.Aliases.FollowAliases(tx, z, c) }})
	s.Hosts = hosts.New(hosts.Parts{Store: s.store, Logbook: s.Logbook, Jobs: s.Jobs, World: s.world, Log: s.log, Tell: s.tellZone, Believe: settings.Hosts.AllowedNetworks})
	s.Aliases = aliases.New(aliases.Parts{Store: s.store, Logbook: s.Logbook, Jobs: s.Jobs, World: s.world, Sweeper: s.sweeper, Timeout: settings.Request})
	s.Syncs = sync.New(sync.Parts{Store: s.store, Logbook: s.Logbook, Jobs: s.Jobs, Log: log, Acts: s.Acts, Accounts: s.Accounts, Zones: s.Zones, Sweeper: s.sweeper, Door: door,
		Drift: settings.Drift, Timeout: settings.Request, Lease: settings.Lease, Ended: s.metrics.syncs, Observer: observer{s.Hosts, s.Aliases, s.madeAt, s.journal}})
	s.Updates = updates.New(updates.Parts{Logbook: s.Logbook, Log: log, Accounts: s.Accounts, Hosts: s.Hosts, Users: s.Users, Listens: settings.Primary.Listen != "", Name: settings.Primary.Name})
	s.Secondaries = secondaries.New(secondaries.Parts{Updates: s.Updates, Store: s.store, Logbook: s.Logbook, Jobs: s.Jobs, Log: log, Accounts: s.Accounts, Syncs: s.Syncs, Door: door, Settings: settings.Primary})
	if err := s.Accounts.Register(secondaries.Kind, s.Secondaries.AccountKind()); err != nil {
		s.store.Close()
		return nil, err
	}
	s.Apply = apply.New(apply.Parts{Logbook: s.Logbook, Jobs: s.Jobs, Zones: s.Zones, Syncs: s.Syncs, Accounts: s.Accounts, Watch: settings.Watch, Accepted: func(tx *store.Tx, zoneID uint64, nameservers []dnsname.Name) error {
		return s.Checks.Accepted(tx, zoneID, nameservers)
	}})
	s.Notify = notify.New(notify.Parts{Settings: settings.Notifications, Store: s.store, Logbook: s.Logbook, World: s.world, Door: door, HTTP: s.http, Timeout: settings.Request, News: s.newsOf})
	if s.visitor, err = settings.Websites.Visitor(door, s.world.Now); err != nil {
		s.store.Close()
		return nil, err
	}
	s.Checks = check.New(check.Parts{Store: s.store, Logbook: s.Logbook, Jobs: s.Jobs, Log: log, Accounts: s.Accounts, Notify: s.Notify, Sweeper: s.sweeper, Visitor: s.visitor,
		HTTP: s.http, World: s.world, Kept: func(tx *store.Tx, d store.Domain) error { return s.Handover.Checked(tx, d) }, Made: s.metrics.checks, Calls: s.metrics.calls,
		Settings: check.Settings{Checks: settings.Checks, RDAP: directory, Sites: settings.Websites, Places: settings.VantagePoints, Request: settings.Request}})
	s.Gather = gather.New(gather.Parts{Logbook: s.Logbook, Jobs: s.Jobs, Accounts: s.Accounts, Zones: s.Zones, Sweeper: s.sweeper, Timeout: settings.Request, Directory: directory, HTTP: s.http,
		Moving: func(tx *store.Tx, z store.Zone) (bool, error) { return s.Handover.Moving(tx, z) }})
	s.Delegations = delegate.New(delegate.Parts{Logbook: s.Logbook, Acts: s.Acts, Zones: s.Zones, Accounts: s.Accounts, Syncs: s.Syncs, Checks: s.Checks, Sweeper: s.sweeper, Timeout: settings.Request, Watch: settings.Watch,
		Reserved: func(tx *store.Tx, z store.Zone) error { return s.Handover.Reserved(tx, z) }})
	s.Handover = handover.New(handover.Parts{Settings: settings.Handovers, Logbook: s.Logbook, Jobs: s.Jobs, World: s.world, Notify: s.Notify, Accounts: s.Accounts, Zones: s.Zones, Syncs: s.Syncs, Checks: s.Checks, Delegations: s.Delegations})
	s.Overview = overview.New(s.store, s.Logbook, s.Accounts, s.Zones, s.world)
	s.employ()
	return s, nil
}

// openAccounts opens the room of accounts, with all kinds of providers and registrars that there are.
func (s *Service) openAccounts(d Drivers) (err error) {
	s.Accounts, err = accounts.New(accounts.Parts{Store: s.store, Logbook: s.Logbook, Log: s.log, Door: s.door, HTTP: s.http,
		KeyFile: s.settings.KeyFile, Profiles: s.settings.Profiles, Evaluator: d.Evaluator, Timeout: s.settings.Request, PlainText: s.settings.PlainText, Calls: s.metrics.calls,
		Placed: sync.OfAccount, Managed: zones.Managed, Added: func(ctx context.Context) error { return s.Syncs.ScheduleLooks(ctx) }})
	if err != nil {
		return err
	}
	for name, kind := range d.Kinds {
		if err := s.Accounts.Register(name, kind); err != nil {
			return err
		}
	}
	if err := s.Accounts.RenewFormer(context.Background()); err != nil {
		return err
	}
	return s.Accounts.ReportInner(context.Background())
}

// madeAt makes the nameservers that a provider assigned desired, where the definition says that the domain is to be delegated there.
func (s *Service) madeAt(tx *store.Tx, zoneID uint64) error { return s.Checks.AssignedTo(tx, zoneID) }

// tellZone has those who are told of a domain told that something about its zone has changed.
func (s *Service) tellZone(tx *store.Tx, zoneID uint64) error {
	d, err := check.DomainOf(tx, zoneID)
	if err != nil {
		return err
	}
	return s.Notify.TellLater(tx, d.ID)
}

// newsOf returns how a domain is, and what its handover asks of a user, for those who are told.
func (s *Service) newsOf(tx *store.Tx, domainID uint64) (notify.News, error) {
	n, err := check.NewsOf(tx, domainID)
	if err == nil {
		n.Asked, err = s.Handover.Asks(tx, domainID)
	}
	if err == nil {
		n.Silent, err = s.Hosts.SilentIn(tx, n.Domain)
	}
	return n, err
}

// read reads the files that the settings name.
func (d DNSSettings) read() (o resolve.Options, anchors dnssec.Records, err error) {
	o.PerSecond = d.PerSecond
	if d.TrustAnchors != "" {
		text, err := os.ReadFile(d.TrustAnchors)
		if err == nil {
			anchors, err = dnssec.ReadAnchors(string(text))
		}
		if err != nil {
			return o, nil, fmt.Errorf("the setting dns.anchors: %w", err)
		}
	}
	if o.Roots, err = reach.Authorities(d.CAFile); err != nil {
		return o, nil, fmt.Errorf("the setting dns.authority: %w", err)
	}
	return o, anchors, nil
}

// Close returns back what Open took. Run must have returned.
func (s *Service) Close() {
	s.Logbook.FlushRequests()
	s.dns.Close()
	s.Users.Close()
	s.store.Close()
	s.Accounts.Close()
	if err := s.journal.Close(); err != nil {
		s.log.Error("the journal of what was written could not be closed", "error", err)
	}
}

// TrustedProxies are the networks whose word is taken for where a request came from.
func (s *Service) TrustedProxies() []string { return s.settings.Proxies }

// HostNames are the names under which the API is asked, in lower case; none where the settings name none.
func (s *Service) HostNames() (names []string) {
	for _, name := range s.settings.HostNames {
		names = append(names, strings.ToLower(strings.TrimSuffix(name, ".")))
	}
	return names
}

// OnNetwork reports whether other machines reach the API, by themselves or through a proxy.
func (s *Service) OnNetwork() bool {
	return special.Open(s.settings.Listen) || s.settings.TLS.Set() || len(s.settings.Proxies) > 0
}

// Metrics serves what is counted, for Prometheus.
func (s *Service) Metrics() http.Handler { return s.metrics.handler() }
