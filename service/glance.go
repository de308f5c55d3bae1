package service

import (
	"context"
	"crypto/sha256"
	"fmt"
	"strings"
	"sync"
	"time"

	"beacon/core/delegation"
	"beacon/core/finding"
	"beacon/resolve"
	"beacon/store"
)

// A glance is a brief look at very many domains: what the parents serve, and SOA and NS of the nameservers. It tells no times and
// takes no checks' place; whoever stands otherwise than at the last glance is checked at once.
const (
	glanceAtOnce  = 256              // domains that are looked at at a time
	glancePortion = 20000            // domains of one run
	glanceKept    = 1000             // are kept at a time
	glancePause   = 10 * time.Second // before the next run where some are left, or looks are not made by themselves, wall time
)

// scheduleGlances makes sure that all domains are looked at briefly in time.
func (s *Service) scheduleGlances(ctx context.Context) error {
	if s.settings.Checks.Glance == 0 {
		return nil
	}
	return s.store.Tx(ctx, func(tx *store.Tx) error { return tx.Enqueue(store.JobGlance, 1, s.wall.Now()) })
}

// Glances says how far a brief look at all domains is.
type Glances struct {
	Since    time.Time                  `json:"since"`    // wall time at which it was asked for
	Domains  int                        `json:"domains"`  // that there are
	Looked   int                        `json:"looked"`   // that were looked at since then
	Verdicts map[delegation.Verdict]int `json:"verdicts"` // of those
	Items    []FleetDomain              `json:"items"`    // once all were looked at, the ones that are not settled
}

// StartGlances has all domains looked at briefly, in the background.
func (s *Service) StartGlances(ctx context.Context) (g Glances, err error) {
	g.Since = s.wall.Now().UTC()
	err = s.tx(ctx, func(tx *store.Tx) error {
		if err := tx.ForgetGlances(); err != nil {
			return err
		}
		return tx.Enqueue(store.JobGlance, 1, s.wall.Now())
	})
	if err != nil {
		return g, err
	}
	nudge(s.wakeGlance)
	return s.GlancesSince(ctx, g.Since)
}

// GlancesSince tells what came of brief looks since a wall time.
func (s *Service) GlancesSince(ctx context.Context, since time.Time) (g Glances, err error) {
	err = s.tx(ctx, func(tx *store.Tx) error {
		counts, open, domains, err := tx.GlancesSince(since)
		g = Glances{Since: since, Domains: int(domains), Verdicts: counts, Items: []FleetDomain{}}
		for _, n := range counts {
			g.Looked += n
		}
		for _, r := range open {
			g.Items = append(g.Items, fleetDomain(r))
		}
		return err
	})
	return g, err
}

// runGlance looks at the domains that were not for the time between two glances, and asks to be called again.
func (s *Service) runGlance(ctx context.Context, _ store.Job) error {
	every := s.settings.Checks.Glance
	before := time.Date(1971, 1, 2, 0, 0, 0, 0, time.UTC) // only those that somebody wants to be looked at
	rest := time.Duration(0)
	if every > 0 {
		rest = s.world.WallAt(s.world.Now().Add(every)).Sub(s.wall.Now())
		before = s.wall.Now().Add(-rest)
	}
	var list []store.Glanced
	err := s.store.Tx(ctx, func(tx *store.Tx) (err error) { list, err = tx.ToGlanceAt(before, glancePortion); return err })
	if err != nil {
		return err
	}
	if err := s.glanceAt(ctx, list); err != nil {
		return err
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	switch {
	case len(list) == glancePortion:
		return errLater{at: s.wall.Now(), madeWay: true}
	case every == 0:
		return nil
	}
	return errLater{at: s.wall.Now().Add(max(rest/10, glancePause)), madeWay: true}
}

// glanceAt looks at domains, keeps what that came to, and has those checked that stand otherwise than before.
func (s *Service) glanceAt(ctx context.Context, list []store.Glanced) error {
	round := s.sweeper.NewRound()
	type outcome struct {
		store.Glance
		changed bool
	}
	found := make(chan outcome, 4*glanceKept)
	var lookers sync.WaitGroup
	next := make(chan store.Glanced)
	lookers.Go(func() {
		defer close(next)
		for _, d := range list {
			select {
			case next <- d:
			case <-ctx.Done():
				return
			}
		}
	})
	for range min(glanceAtOnce, len(list)) {
		lookers.Go(func() {
			for d := range next {
				if g, ok := glance(ctx, round, d); ok {
					g.At = s.wall.Now()
					found <- outcome{g, g.Verdict != delegation.Unknown && d.Known() && string(d.Seen) != string(g.Seen[:])}
				}
			}
		})
	}
	go func() { lookers.Wait(); close(found) }()
	var kept []store.Glance
	var changed []uint64
	otherwise := 0
	keep := func() error {
		err := s.store.Tx(context.WithoutCancel(ctx), func(tx *store.Tx) error {
			if err := tx.PutGlances(kept); err != nil {
				return err
			}
			for _, id := range changed {
				if err := tx.Enqueue("check", id, s.wall.Now()); err != nil {
					return err
				}
			}
			return nil
		})
		kept, changed = kept[:0], changed[:0]
		return err
	}
	var failed error
	for o := range found { // to the end, whatever fails: the lookers wait for it
		if kept = append(kept, o.Glance); o.changed {
			changed = append(changed, o.DomainID)
			otherwise++
		}
		if len(kept) == glanceKept && failed == nil {
			failed = keep()
		}
	}
	if failed == nil {
		failed = keep()
	}
	if failed == nil && otherwise > 0 {
		s.note(ctx, "glance.changed", "all domains", fmt.Sprintf("%d of %d that were looked at briefly stand otherwise than before, and are checked", otherwise, len(list)))
	}
	return failed
}

// glance looks at one domain. A look that failed keeps the print of the one before, so that nothing is concluded from it; ok is false where
// the time to look was over.
func glance(ctx context.Context, round *resolve.Round, d store.Glanced) (g store.Glance, ok bool) {
	looking, cancel := context.WithTimeout(ctx, checkTime)
	defer cancel()
	wanted := d.WantedSet()
	sweep := round.Sweep(looking, d.Name(), resolve.Scope{Nameservers: wanted, Brief: true})
	if ctx.Err() != nil {
		return g, false
	}
	r := delegation.Judge(delegation.Plan{Domain: d.Name(), Wanted: wanted}, delegation.Advance(delegation.History{}, sweep), sweep)
	g = store.Glance{DomainID: d.DomainID, Verdict: r.Verdict}
	if len(r.Findings) > 0 && r.Findings[0].Severity >= finding.Warning {
		g.Gravest = r.Findings[0].Code
	}
	if r.Verdict == delegation.Unknown {
		copy(g.Seen[:], d.Seen)
		return g, true
	}
	print := sha256.Sum256([]byte(strings.Join(r.Standing(), "\n")))
	copy(g.Seen[:], print[:])
	return g, true
}
