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
	"sync"
	"time"

	"beacon/clock"
	"beacon/core/dnssec"
	"beacon/outcall"
	"beacon/provider"
	"beacon/reach"
	"beacon/registrar"
	"beacon/resolve"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/notify"
	"beacon/service/users"
	"beacon/store"
	"beacon/visit"
)

// Drivers make drivers for accounts, by kind.
type Drivers struct {
	Providers  map[string]func(outcall.Client) provider.Driver
	Registrars map[string]func(outcall.Client) registrar.Driver
	// Evaluator is the command that starts a worker for the expressions of profiles; it ends up in jq.Work.
	Evaluator []string
}

// Service is a running instance. It is safe for concurrent use.
type Service struct {
	settings Settings
	drivers  Drivers
	kinds    *kinds
	pacesMu  sync.Mutex
	paces    map[uint64]*pace  // by account
	indexes  map[uint64]*index // by account
	live     memory
	log      *slog.Logger
	store    *store.Store
	seal     *store.Seal
	http     *http.Client
	careful  *http.Client // does not go to inner networks that were not allowed by name
	dns      *resolve.Client
	sweeper  *resolve.Sweeper
	visitor  *visit.Visitor
	world    *clock.World
	wall     clock.Wall
	metrics  *metrics
	door     *reach.Door
	usedMu   sync.Mutex
	used     map[string]time.Time // accounts, by when their last use was noted
	house    houseKit
	Logbook  *logbook.Book
	Notify   *notify.Notifier
	Users    *users.Users
	Jobs     *jobs.Queue
}

// Open connects everything that an instance needs. Close gives it back.
func Open(ctx context.Context, settings Settings, drivers Drivers, log *slog.Logger) (*Service, error) {
	door, err := reach.New(settings.Reach)
	if err != nil {
		return nil, fmt.Errorf("the setting reach: %w", err)
	}
	hintText, err := os.ReadFile(settings.DNS.Roots)
	if err != nil {
		return nil, fmt.Errorf("the setting dns.roots: %w", err)
	}
	hints, err := resolve.ReadHints(string(hintText), settings.DNS.Port)
	if err != nil {
		return nil, fmt.Errorf("the setting dns.roots: %w", err)
	}
	s := &Service{settings: settings, drivers: drivers, log: log, world: &clock.World{}, metrics: newMetrics(),
		paces: map[uint64]*pace{}, indexes: map[uint64]*index{}, live: memory{zones: map[uint64]provider.State{}}}
	if s.kinds, err = newKinds(drivers, settings.Profiles, settings.Primary.Listen != ""); err != nil {
		return nil, err
	}
	if s.house, err = readHouseKit(settings.NewZones); err != nil {
		return nil, err
	}
	s.door, s.used = door, map[string]time.Time{}
	s.http, s.careful = door.HTTPClient(settings.Request), door.Careful().HTTPClient(settings.Request)
	if settings.WorldClock != "" {
		if err := s.world.Follow(ctx, s.http, settings.WorldClock); err != nil {
			return nil, fmt.Errorf("the setting world_clock: %w", err)
		}
	}
	if s.seal, err = store.OpenSeal(settings.KeyFile); err != nil {
		return nil, err
	}
	if s.store, err = store.Open(ctx, settings.Database, door, s.wall.Now); err != nil {
		return nil, err
	}
	s.Logbook = logbook.New(s.store, log)
	s.Jobs = jobs.New(s.store, log, settings.Lease, s.metrics.jobs)
	s.Users = users.New(s.Logbook)
	s.Notify = notify.New(notify.Parts{Settings: settings.Tell, Store: s.store, Logbook: s.Logbook, World: s.world, Door: door, HTTP: s.http, Timeout: settings.Request, News: newsOf})
	s.employ()
	if s.visitor, err = settings.Sites.visitor(door, s.world.Now); err != nil {
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
	return s, nil
}

// read reads the files that the settings name.
func (d DNSSettings) read() (o resolve.Options, anchors dnssec.Records, err error) {
	o.PerSecond = d.PerSecond
	if d.Anchors != "" {
		text, err := os.ReadFile(d.Anchors)
		if err == nil {
			anchors, err = dnssec.ReadAnchors(string(text))
		}
		if err != nil {
			return o, nil, fmt.Errorf("the setting dns.anchors: %w", err)
		}
	}
	if o.Roots, err = reach.Authorities(d.Authority); err != nil {
		return o, nil, fmt.Errorf("the setting dns.authority: %w", err)
	}
	return o, anchors, nil
}

// Close gives back what Open took. Run must have returned.
func (s *Service) Close() {
	s.dns.Close()
	s.store.Close()
	s.kinds.close()
}

// WorldNow is world time, and the rate at which it runs.
func (s *Service) WorldNow() (time.Time, float64) { return s.world.Now(), s.world.Rate() }

// TrustedProxies are the networks whose word is taken for where a request came from.
func (s *Service) TrustedProxies() []string { return s.settings.Proxies }

// Ready reports whether the database answers.
func (s *Service) Ready(ctx context.Context) error { return s.store.Ping(ctx) }

// Metrics serves what is counted, for Prometheus.
func (s *Service) Metrics() http.Handler { return s.metrics.handler() }

// observe puts every request to a provider or registrar into the logbook.
func (s *Service) observe(ctx context.Context, call outcall.Call) {
	detail := fmt.Sprintf("%s %s: %d in %d ms", call.Method, call.Path, call.Status, call.Took.Milliseconds())
	if call.Problem != "" {
		detail = fmt.Sprintf("%s %s: %s (%d ms)", call.Method, call.Path, call.Problem, call.Took.Milliseconds())
	}
	s.noteUse(ctx, call.Account)
	s.metrics.calls.WithLabelValues(call.Account, outcomeWord(call)).Inc()
	action := "request"
	if call.Problem != "" {
		action = "request.failed"
	}
	s.Logbook.Note(ctx, action, call.Account, detail)
}

// useNoted is how exactly it is kept when an account was last used.
const useNoted = 10 * time.Second

// noteUse keeps when an account was last used.
func (s *Service) noteUse(ctx context.Context, account string) {
	now := s.wall.Now()
	s.usedMu.Lock()
	fresh := now.Sub(s.used[account]) < useNoted
	if !fresh {
		s.used[account] = now
	}
	s.usedMu.Unlock()
	if fresh {
		return
	}
	if err := s.store.Tx(context.WithoutCancel(ctx), func(tx *store.Tx) error { return tx.Used(account, now) }); err != nil {
		s.log.Error("the use of an account could not be noted", "account", account, "error", err)
	}
}

func outcomeWord(call outcall.Call) string {
	if call.Problem != "" {
		return "failed"
	}
	return "answered"
}
