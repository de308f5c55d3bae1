package service

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"beacon/clock"
	"beacon/outcall"
	"beacon/provider"
	"beacon/provider/jq"
	"beacon/provider/profile"
	"beacon/store"
	"beacon/wire"
)

// evaluation bounds one jq expression of a profile, wall time.
const evaluation = 5 * time.Second

// kinds are the kinds of provider accounts: those that have code of their own, and those that a profile describes.
type kinds struct {
	drivers   map[string]func(outcall.Client) provider.Driver
	folder    string
	pool      *jq.Pool
	publishes bool // zones are given to secondaries from here
	mu        sync.Mutex
	known     map[string]*profile.Profile
}

// newKinds reads the profiles once, so that one with faults is told of at the start and not at night.
func newKinds(d Drivers, folder string, publishes bool) (*kinds, error) {
	k := &kinds{drivers: d.Providers, folder: folder, publishes: publishes}
	if folder == "" {
		return k, nil
	}
	if len(d.Evaluator) == 0 {
		return nil, fmt.Errorf("the setting profiles: this program has nothing to evaluate their expressions with")
	}
	k.pool = jq.NewPool(d.Evaluator, evaluation)
	return k, k.load()
}

func (k *kinds) load() error {
	known, err := profile.LoadAll(os.DirFS(k.folder))
	if err != nil {
		return fmt.Errorf("the setting profiles:\n%w", err)
	}
	for name := range known {
		if k.drivers[name] != nil {
			return fmt.Errorf("the setting profiles: %q is the name of a kind that needs no profile", name)
		}
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.known = known
	return nil
}

func (k *kinds) close() {
	if k.pool != nil {
		k.pool.Close()
	}
}

// build gives what makes drivers of a kind. A profile that was put into the folder since the start is found too.
func (k *kinds) build(kind string) (func(outcall.Client) provider.Driver, error) {
	if build := k.drivers[kind]; build != nil {
		return build, nil
	}
	p := k.profile(kind)
	if p == nil && k.folder != "" {
		if err := k.load(); err != nil {
			return nil, wire.Problemf(wire.InTheWay, "%s", err)
		}
		p = k.profile(kind)
	}
	if p == nil {
		return nil, nil
	}
	return func(c outcall.Client) provider.Driver { return profile.New(p, k.pool, c) }, nil
}

func (k *kinds) profile(kind string) *profile.Profile {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.known[kind]
}

// names lists the kinds.
func (k *kinds) names() []string {
	k.mu.Lock()
	defer k.mu.Unlock()
	all := mergedKeys(k.drivers, k.known)
	if k.publishes {
		all[KindSecondaries] = true
	}
	return slices.Sorted(maps.Keys(all))
}

func mergedKeys[A, B any](a map[string]A, b map[string]B) map[string]bool {
	all := map[string]bool{}
	for name := range a {
		all[name] = true
	}
	for name := range b {
		all[name] = true
	}
	return all
}

// Kinds lists what accounts can be connected to.
func (s *Service) Kinds(context.Context) []wire.Kind {
	list := []wire.Kind{}
	for _, name := range s.kinds.names() {
		k := wire.Kind{Name: name, About: aboutDrivers[name]}
		if p := s.kinds.profile(name); p != nil {
			k.About, k.Caps = p.About, &p.Caps
		}
		list = append(list, k)
	}
	return list
}

// aboutDrivers says what the kinds are for that need no profile.
var aboutDrivers = map[string]string{
	KindSecondaries: "Ourselves as hidden primary: nameservers fetch these zones from here, signed with a key (RFC 5936, RFC 1995, RFC 8945)",
	"update":        "Standard nameservers: dynamic update and zone transfer (RFC 2136, RFC 5936), signed with a key (RFC 8945)",
}

// pace keeps the requests of one account within what its provider allows, for all work of this instance.
type pace struct {
	limiter *rate.Limiter
	mu      sync.Mutex
	until   time.Time
}

// Wait returns when a request may be made.
func (p *pace) Wait(ctx context.Context) error {
	p.mu.Lock()
	wait := time.Until(p.until)
	p.mu.Unlock()
	if wait > 0 {
		if err := clock.Pause(ctx, wait); err != nil {
			return err
		}
	}
	return p.limiter.Wait(ctx)
}

// Slow keeps everybody from the account for a while.
func (p *pace) Slow(d time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if until := time.Now().Add(d); until.After(p.until) {
		p.until = until
	}
}

// paceOf gives the pace of an account, which all of its drivers share.
func (s *Service) paceOf(a store.Account, perSecond float64) *pace {
	s.pacesMu.Lock()
	defer s.pacesMu.Unlock()
	p := s.paces[a.ID]
	if p == nil {
		p = &pace{limiter: rate.NewLimiter(rate.Inf, 1)}
		s.paces[a.ID] = p
	}
	if perSecond > 0 {
		p.limiter.SetLimit(rate.Limit(perSecond))
		p.limiter.SetBurst(max(1, int(perSecond/4)))
	}
	return p
}
