package service

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"beacon/core/delegation"
	"beacon/core/finding"
	"beacon/resolve"
	"beacon/store"
)

// A glance is a brief look at very many domains: what the parents serve, and SOA and NS of the nameservers. It tells no times and
// takes no checks' place; whoever stands otherwise than at the last glance is checked at once.
const (
	glanceAtOnce  = 256                    // domains that are looked at at a time
	glancePortion = 20000                  // domains of one run
	glanceRows    = 4000                   // are kept at a time at most
	glanceKept    = 200 * time.Millisecond // between two times that what was found is kept
	glancePause   = 10 * time.Second       // before the next run where some are left, or looks are not made by themselves, wall time
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
	Ended    *time.Time                 `json:"ended"`    // wall time; null while it goes on
	Domains  int                        `json:"domains"`  // that there are
	Looked   int                        `json:"looked"`   // that were looked at since then
	Verdicts map[delegation.Verdict]int `json:"verdicts"` // of those
	Items    []FleetDomain              `json:"items"`    // once all were looked at, the ones that are not settled
}

// StartGlances has all domains looked at briefly, in the background.
func (s *Service) StartGlances(ctx context.Context) (g Glances, err error) {
	err = s.tx(ctx, func(tx *store.Tx) error {
		run, err := tx.BeginGlances()
		if err != nil {
			return err
		}
		g = glancesOf(run)
		return tx.Enqueue(store.JobGlance, 1, s.wall.Now())
	})
	nudge(s.wakeGlance)
	return g, err
}

func glancesOf(run store.GlanceRun) Glances {
	return Glances{Since: run.Began.UTC(), Ended: run.Ended, Domains: run.Domains, Looked: run.Looked, Verdicts: run.Verdicts, Items: []FleetDomain{}}
}

// GlancesSince tells what came of brief looks since a wall time.
func (s *Service) GlancesSince(ctx context.Context, since time.Time) (g Glances, err error) {
	err = s.tx(ctx, func(tx *store.Tx) error {
		run, ok, err := tx.GlanceRun()
		if err != nil {
			return err
		}
		if !ok || run.Began.Before(since) {
			return fmt.Errorf("no brief look at all domains was begun since %s; begin one: %w", since.UTC().Format(time.RFC3339), store.ErrNotFound)
		}
		if g = glancesOf(run); run.Ended == nil {
			return nil
		}
		open, err := tx.UnsettledAtGlance()
		for _, r := range open {
			r.CheckedAt = run.Ended
			g.Items = append(g.Items, fleetDomain(r))
		}
		return err
	})
	return g, err
}

// runGlance makes or goes on with the run that is due, a portion at a time, and asks to be called again.
func (s *Service) runGlance(ctx context.Context, _ store.Job) error {
	every := s.settings.Checks.Glance
	pause := glancePause
	if every > 0 {
		every = s.world.WallAt(s.world.Now().Add(every)).Sub(s.wall.Now())
		pause = max(every/10, glancePause)
	}
	var run store.GlanceRun
	var list []store.Glanced
	err := s.store.Tx(ctx, func(tx *store.Tx) error {
		last, ok, err := tx.GlanceRun()
		switch run = last; {
		case err != nil:
			return err
		case ok && run.Ended == nil:
		case every > 0 && (!ok || s.wall.Now().Sub(run.Began) >= every):
			if run, err = tx.BeginGlances(); err != nil {
				return err
			}
		default:
			return nil
		}
		list, err = tx.ToGlanceAt(run, glancePortion)
		return err
	})
	if err != nil {
		return err
	}
	if run.ID != 0 && run.Ended == nil {
		err := s.glanceAt(ctx, run, list)
		switch {
		case errors.Is(err, store.ErrNotFound) || err == nil && len(list) == glancePortion: // another run has begun; or this one goes on
			return errLater{at: s.wall.Now(), madeWay: true}
		case err != nil:
			return err
		case ctx.Err() != nil:
			return context.Cause(ctx)
		}
	}
	if every == 0 {
		return nil
	}
	return errLater{at: s.wall.Now().Add(pause), madeWay: true}
}

// glanceAt looks at the domains that a run has still to look at, keeps what that came to, and has those checked that stand otherwise than
// before.
func (s *Service) glanceAt(ctx context.Context, run store.GlanceRun, list []store.Glanced) error {
	looking, stop := context.WithCancel(ctx)
	defer stop()
	round := s.sweeper.NewRound()
	looks := make([]atomic.Pointer[store.Glance], len(list))
	var next atomic.Int64
	var lookers sync.WaitGroup
	for range min(glanceAtOnce, len(list)) {
		lookers.Go(func() {
			for i := next.Add(1) - 1; i < int64(len(list)) && looking.Err() == nil; i = next.Add(1) - 1 {
				if g, ok := glance(looking, round, list[i]); ok {
					looks[i].Store(&g)
				}
			}
		})
	}
	through := make(chan struct{})
	go func() { lookers.Wait(); close(through) }()
	ticker := time.NewTicker(glanceKept)
	defer ticker.Stop()
	kept, otherwise := 0, 0
	for over := false; !over; {
		select {
		case <-ticker.C:
		case <-through:
			over = true
		}
		ready := kept
		for ready < len(list) && looks[ready].Load() != nil {
			ready++
		}
		ended := ready == len(list) && len(list) < glancePortion
		for kept < ready || ended && run.Ended == nil {
			portion := list[kept:min(ready, kept+glanceRows)]
			changed, err := s.keepGlances(ctx, &run, portion, looks[kept:], ended && kept+len(portion) == ready)
			if err != nil {
				stop()
				<-through
				return err
			}
			kept, otherwise = kept+len(portion), otherwise+changed
		}
		over = over || ended
	}
	if otherwise > 0 {
		s.note(ctx, "glance.changed", "all domains", fmt.Sprintf("%d of %d that were looked at briefly stand otherwise than before, and are checked", otherwise, kept))
	}
	return nil
}

// keepGlances keeps what looks came to; of most domains that is that nothing has changed. It gives how many are checked for what has.
func (s *Service) keepGlances(ctx context.Context, run *store.GlanceRun, list []store.Glanced, looks []atomic.Pointer[store.Glance], ended bool) (changed int, err error) {
	var otherwise []store.Glance
	var check []uint64
	for i, before := range list {
		now := *looks[i].Load()
		run.Verdicts[now.Verdict]++
		if before.Is(now) {
			continue
		}
		otherwise = append(otherwise, now)
		if now.Verdict != delegation.Unknown && before.Known() && string(before.Seen) != string(now.Seen[:]) {
			check = append(check, now.DomainID)
		}
	}
	if run.Looked += len(list); len(list) > 0 {
		run.Reached = list[len(list)-1].DomainID
	}
	if run.Domains = max(run.Domains, run.Looked); ended {
		at := s.wall.Now()
		run.Ended, run.Domains = &at, run.Looked
	}
	err = s.store.Tx(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		if err := tx.KeepGlances(*run, otherwise); err != nil {
			return err
		}
		for _, id := range check {
			if err := tx.Enqueue("check", id, s.wall.Now()); err != nil {
				return err
			}
		}
		return nil
	})
	return len(check), err
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
