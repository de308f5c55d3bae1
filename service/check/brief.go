package check

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/resolve"
	"beacon/service/acts"
	"beacon/service/jobs"
	"beacon/store"
	"beacon/wire"
)

func FleetDomain(r store.FleetRow) wire.FleetDomain {
	return wire.FleetDomain{Name: dnsname.FromKey(r.Name), Verdict: r.Verdict, SettlesBy: r.SettlesBy, CheckedAt: r.CheckedAt, Gravest: r.Gravest}
}

// A brief check looks at very many domains: what the parents serve, and SOA and NS of the nameservers. It tells no times and
// takes no checks' place; whoever stands otherwise than at the last brief check is checked at once.
const (
	briefAtOnce  = 128                    // domains that are looked at at a time
	briefPortion = 2000                   // are read at a time
	briefAhead   = 20000                  // are read at most before those in front of them are kept
	briefRows    = 4000                   // are kept at a time at most
	briefRound   = time.Minute            // how long what was learned of the zones above serves those that follow, real time
	briefKept    = 200 * time.Millisecond // between two times that what was found is kept
	almost       = time.Second            // of simulated time: two clocks round differently
	briefPause   = 10 * time.Second       // before the next run where some are left, or looks are not made by themselves, real time
)

// ScheduleBriefChecks makes sure that all domains are looked at briefly in time.
func (s *Checks) ScheduleBriefChecks(ctx context.Context) error {
	if s.settings.Checks.Brief == 0 {
		return nil
	}
	return s.store.Tx(ctx, func(tx *store.Tx) error { return jobs.Enqueue(tx, store.JobBrief, 1, s.store.Now()) })
}

// StartBriefChecks has all domains looked at briefly, in the background.
func (s *Checks) StartBriefChecks(ctx context.Context, by access.Caller) (g wire.BriefChecks, err error) {
	if !by.Ever(access.Check) { // it looks at all domains, and returns how many; each caller sees its own
		return g, wire.Permit(by, access.Check, access.Everything)
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		run, err := tx.BeginBriefChecks(s.world.Now())
		if err != nil {
			return err
		}
		g = briefChecksOf(run)
		return jobs.Enqueue(tx, store.JobBrief, 1, s.store.Now())
	})
	s.jobs.Wake(store.JobBrief)
	return g, err
}

func briefChecksOf(run store.BriefRun) wire.BriefChecks {
	return wire.BriefChecks{Since: run.Began.UTC(), Ended: run.Ended, Domains: run.Domains, Looked: run.Looked, Verdicts: run.Verdicts, Items: []wire.FleetDomain{}}
}

// BriefChecksSince returns what came of brief looks since a real time.
func (s *Checks) BriefChecksSince(ctx context.Context, by access.Caller, since time.Time) (g wire.BriefChecks, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		run, ok, err := tx.BriefRun()
		if err != nil {
			return err
		}
		if !ok || run.Began.Before(since) {
			return fmt.Errorf("no brief look at all domains was begun since %s; begin one: %w", since.UTC().Format(time.RFC3339), store.ErrNotFound)
		}
		if g = briefChecksOf(run); run.Ended == nil {
			return nil
		}
		open, err := tx.UnsettledBriefly()
		scope := access.Where(by, access.See)
		for _, r := range open {
			if !scope.Has(dnsname.FromKey(r.Name)) {
				continue
			}
			r.CheckedAt = run.Ended
			g.Items = append(g.Items, FleetDomain(r))
		}
		return err
	})
	return g, err
}

// RunBriefCheck makes or goes on with the run that is due, and asks to be called again.
func (s *Checks) RunBriefCheck(ctx context.Context, _ store.Job) error {
	every, now := s.settings.Checks.Brief, s.world.Now()
	var run store.BriefRun
	err := s.store.Tx(ctx, func(tx *store.Tx) error {
		last, ok, err := tx.BriefRun()
		if run = last; err == nil && every > 0 && (!ok || run.World == nil || run.Ended != nil && (run.World.After(now) || now.Sub(*run.World) >= every-almost)) {
			run, err = tx.BeginBriefChecks(now)
		}
		return err
	})
	if err != nil {
		return err
	}
	if run.ID != 0 && run.Ended == nil {
		switch err := s.briefCheckAt(ctx, run); {
		case ctx.Err() != nil:
			return context.Cause(ctx)
		case errors.Is(err, store.ErrNotFound): // another run has begun
			return jobs.Later{At: s.store.Now(), MadeWay: true}
		case err != nil:
			return err
		}
	}
	if every == 0 {
		return nil
	}
	return jobs.Later{World: run.World.Add(max(every, time.Duration(s.world.Rate()*float64(briefPause)))), Worked: true}
}

// look is a brief look at one domain.
type look struct {
	store.BriefDomain
	round *resolve.Round                   // shared with others of about the same time
	now   atomic.Pointer[store.BriefCheck] // nil: it was not looked at yet
}

// briefCheckAt looks at the domains that a run has still to look at, keeps what that came to, and has those checked that stand otherwise than
// before. What was found is kept in the order of the run, so that it can be gone on with anywhere.
func (s *Checks) briefCheckAt(ctx context.Context, run store.BriefRun) error {
	var begun map[string]bool // domains whose delegation is being changed
	err := s.store.Tx(ctx, func(tx *store.Tx) (err error) {
		begun, err = acts.Begun(tx, wire.ActDelegate, "", s.store.Now(), s.settings.Checks.ByHand)
		return err
	})
	if err != nil {
		return err
	}
	group, looking := errgroup.WithContext(ctx)
	read, queue := make(chan []look), make(chan *look, briefPortion/2)
	group.Go(func() error {
		defer close(queue)
		return s.readBriefChecks(looking, run.Reached, read, queue)
	})
	var lookers sync.WaitGroup
	for range briefAtOnce {
		lookers.Go(func() {
			long := spans{parent: looking}
			defer long.end()
			for l := range queue {
				if g := briefCheck(long.next(), l.round, l.BriefDomain, begun[l.Name().String()]); looking.Err() == nil {
					l.now.Store(&g)
				}
			}
		})
	}
	through := make(chan struct{})
	go func() { lookers.Wait(); close(through) }()
	group.Go(func() error { return s.keepBriefChecks(looking, run, read, through) })
	err = group.Wait()
	<-through
	return err
}

// readBriefChecks reads what is to be looked at, a portion at a time while the one before is being looked at. An empty one says that there is
// no more.
func (s *Checks) readBriefChecks(ctx context.Context, after uint64, read chan<- []look, queue chan<- *look) error {
	round, began := s.sweeper.NewRound(), time.Now()
	for {
		if time.Since(began) > briefRound { // what a round has learned grows old
			round, began = s.sweeper.NewRound(), time.Now()
		}
		var list []store.BriefDomain
		err := s.store.Tx(ctx, func(tx *store.Tx) (err error) { list, err = tx.ToCheckBriefly(after, briefPortion); return err })
		if err != nil {
			return err
		}
		portion := make([]look, len(list))
		for i, g := range list {
			portion[i].BriefDomain, portion[i].round = g, round
		}
		select {
		case read <- portion:
		case <-ctx.Done():
			return ctx.Err()
		}
		for i := range portion {
			select {
			case queue <- &portion[i]:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		if len(list) == 0 {
			return nil
		}
		after = list[len(list)-1].DomainID
	}
}

// keepBriefChecks keeps what was found every so often, in order, to the end of the run.
func (s *Checks) keepBriefChecks(ctx context.Context, run store.BriefRun, read <-chan []look, through <-chan struct{}) error {
	ticker := time.NewTicker(briefKept)
	defer ticker.Stop()
	var waiting []*look // read, and not kept yet
	all, otherwise := false, 0
	for run.Ended == nil {
		more := read
		if len(waiting) >= briefAhead {
			more = nil
		}
		over := false
		select {
		case portion := <-more:
			for i := range portion {
				waiting = append(waiting, &portion[i])
			}
			if all = len(portion) == 0; all {
				read = nil
			}
			continue
		case <-ticker.C:
		case <-through:
			over = true
		case <-ctx.Done():
			return ctx.Err()
		}
		if over && !all { // reading failed
			return nil
		}
		n := 0
		for n < len(waiting) && waiting[n].now.Load() != nil {
			n++
		}
		for done := false; !done; {
			now := waiting[:min(n, briefRows)]
			n, waiting = n-len(now), waiting[len(now):]
			done = n == 0
			if len(now) == 0 && !over {
				continue
			}
			changed, err := s.put(ctx, &run, now, over && done)
			if err != nil {
				return err
			}
			otherwise += changed
		}
	}
	if otherwise > 0 {
		s.logbook.Note(ctx, "service", "brief-check.changed", "all domains", fmt.Sprintf("%d of %d domains changed state in the brief check, and are being checked", otherwise, run.Looked))
	}
	return nil
}

// put keeps what looks came to; of most domains that is that nothing has changed. It gives how many are checked for what has.
func (s *Checks) put(ctx context.Context, run *store.BriefRun, looks []*look, ended bool) (changed int, err error) {
	var otherwise []store.BriefCheck
	var check []uint64
	for _, l := range looks {
		now := *l.now.Load()
		run.Verdicts[now.Verdict]++
		run.Looked++
		run.Reached = now.DomainID
		if l.Before == now {
			continue
		}
		otherwise = append(otherwise, now)
		if now.Verdict != delegation.Unknown && l.Known() && l.Before.Seen != now.Seen {
			check = append(check, now.DomainID)
		}
	}
	if run.Domains = max(run.Domains, run.Looked); ended {
		at := s.store.Now()
		run.Ended, run.Domains = &at, run.Looked
	}
	err = s.store.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.KeepBriefChecks(*run, otherwise); err != nil {
			return err
		}
		for _, id := range check {
			if err := jobs.Enqueue(tx, store.JobCheck, id, s.store.Now()); err != nil {
				return err
			}
		}
		return nil
	})
	return len(check), err
}

// spans returns contexts that end once to twice a check's time later: thousands of looks share them.
type spans struct {
	parent context.Context
	ctx    context.Context
	cancel context.CancelFunc
	began  time.Time
}

func (s *spans) next() context.Context {
	if s.ctx == nil || time.Since(s.began) > CheckTime {
		s.end()
		s.began = time.Now()
		s.ctx, s.cancel = context.WithTimeout(s.parent, 2*CheckTime)
	}
	return s.ctx
}

func (s *spans) end() {
	if s.cancel != nil {
		s.cancel()
	}
}

// briefCheck looks at one domain. A look that failed keeps the print of the one before, so that nothing is concluded from it.
func briefCheck(ctx context.Context, round *resolve.Round, d store.BriefDomain, begun bool) (g store.BriefCheck) {
	wanted := d.WantedSet()
	sweep := round.Sweep(ctx, d.Name(), resolve.Scope{Nameservers: wanted, Brief: true})
	r := delegation.Judge(delegation.Plan{Domain: d.Name(), Wanted: wanted, Begun: begun}, delegation.Advance(delegation.History{}, sweep), sweep)
	g = store.BriefCheck{DomainID: d.DomainID, Verdict: r.Verdict}
	if len(r.Findings) > 0 && r.Findings[0].Severity >= finding.Warning {
		g.Gravest = r.Findings[0].Code
	}
	if r.Verdict == delegation.Unknown {
		g.Seen = d.Before.Seen
		return g
	}
	print := sha256.Sum256([]byte(strings.Join(r.News(), "\n")))
	copy(g.Seen[:], print[:])
	return g
}
