package check

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/resolve"
	"beacon/service/acts"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/notify"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// CheckTime bounds one check, real time.
const CheckTime = 30 * time.Second

// Check looks at a domain now. One that is looked after here is held against what is wanted and what is remembered of
// it, and the outcome is kept; of any other, only what is to be seen now is judged.
func (s *Checks) Check(ctx context.Context, by access.Caller, name dnsname.Name) (delegation.Report, error) {
	if err := wire.Permit(by, access.Check, access.Zone(name)); err != nil {
		return delegation.Report{}, err
	}
	if name.IsRoot() {
		return delegation.Report{}, wire.Problemf(wire.Invalid, "The root cannot be checked: it has no parent.")
	}
	var z store.Zone
	var d store.Domain
	err := s.logbook.Tx(ctx, func(tx *store.Tx) (err error) {
		if z, err = zones.ByName(tx, name); err == nil {
			d, err = tx.EnsureDomain(z.ID)
		}
		return err
	})
	switch {
	case isMissingProblem(err):
		return s.checkStranger(ctx, name), nil
	case err != nil:
		return delegation.Report{}, err
	}
	report, _, err := s.checkManaged(ctx, z, d, s.registration)
	return report, err
}

func isMissingProblem(err error) bool {
	var p *wire.Problem
	return errors.As(err, &p) && p.Kind == wire.NotFound
}

// checkStranger judges a domain of which nothing is known here.
func (s *Checks) checkStranger(ctx context.Context, name dnsname.Name) delegation.Report {
	ctx, cancel := context.WithTimeout(ctx, CheckTime)
	defer cancel()
	sites := delegation.Sites(name)
	sweep := s.sweep(ctx, name, ResolveScope(name, sites, nil, nil))
	s.visitor.Look(ctx, s.sweeper, &sweep, sites, nil)
	h := delegation.Advance(delegation.History{}, sweep)
	return delegation.Judge(delegation.Plan{Domain: name, Registrar: s.rdap(ctx, name), Issuers: s.settings.Sites.Issuers}, h, sweep)
}

// checkManaged makes a sweep, judges it, and keeps what it established. What the registrar says is had from ask. It also gives when the
// domain is due again, real time.
func (s *Checks) checkManaged(ctx context.Context, z store.Zone, d store.Domain, ask func(context.Context, store.Zone) *delegation.Registration) (r delegation.Report, due time.Time, err error) {
	begun := time.Now()
	plan, sweep, err := s.lookAt(ctx, z, d, ask)
	if err != nil {
		return r, due, err
	}
	return s.keep(context.WithoutCancel(ctx), z.Name(), d.ID, plan, sweep, time.Since(begun))
}

// Preview judges a domain that is managed here as a check would, and keeps nothing.
func (s *Checks) Preview(ctx context.Context, name dnsname.Name) (r delegation.Report, err error) {
	var z store.Zone
	var d store.Domain
	err = s.logbook.Look(ctx, func(tx *store.Tx) (err error) {
		if z, err = zones.ByName(tx, name); err == nil {
			d, err = tx.DomainOf(z.ID)
		}
		return err
	})
	if err != nil {
		return r, err
	}
	plan, sweep, err := s.lookAt(ctx, z, d, s.registration)
	if err != nil {
		return r, err
	}
	past, err := d.PastSweeps()
	return delegation.Judge(plan, delegation.Advance(past, sweep), sweep), err
}

// lookAt makes a sweep of a domain that is managed here, and the plan that it is held against.
func (s *Checks) lookAt(ctx context.Context, z store.Zone, d store.Domain, ask func(context.Context, store.Zone) *delegation.Registration) (plan delegation.Plan, sweep evidence.Sweep, err error) {
	ctx, cancel := context.WithTimeout(ctx, CheckTime)
	defer cancel()
	name := z.Name()
	plan = delegation.Plan{Domain: name, Wanted: d.WantedSet(), Registrar: ask(ctx, z)}
	past, err := d.PastSweeps()
	if err != nil {
		return plan, sweep, err
	}
	nameservers := append(append([]dnsname.Name(nil), plan.Wanted...), past.Current.Set...)
	if past.Former != nil {
		nameservers = append(nameservers, past.Former.Set...)
	}
	plan.Issuers = s.settings.Sites.Issuers
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		begun, err := acts.Begun(tx, wire.ActDelegate, name.String(), s.store.Now(), s.settings.Checks.ByHand)
		if err != nil {
			return err
		}
		plan.Begun = begun[name.String()]
		plan.Sites = nil
		return planSites(tx, z, &plan)
	})
	if err != nil {
		return plan, sweep, err
	}
	sites := zones.SitesOf(z)
	sweep = s.sweep(ctx, name, ResolveScope(name, sites, nameservers, plan.Wanted))
	s.visitor.Look(ctx, s.sweeper, &sweep, sites, plan.Wanted)
	return plan, sweep, nil
}

// Begun reports whether a change of a domain's nameservers has begun: an act is under way, or was done lately.
func (s *Checks) Begun(tx *store.Tx, name dnsname.Name) (bool, error) {
	begun, err := acts.Begun(tx, wire.ActDelegate, name.String(), s.store.Now(), 0)
	return begun[name.String()], err
}

// sweep asks from here and, at the same time, from all vantage points.
func (s *Checks) sweep(ctx context.Context, name dnsname.Name, scope resolve.Scope) (sweep evidence.Sweep) {
	var places []evidence.Place
	var group sync.WaitGroup
	group.Go(func() {
		places = s.fromPlaces(ctx, wire.SweepRequest{Domain: name, Nameservers: scope.Nameservers, Watched: scope.Watched})
	})
	sweep = s.sweeper.Sweep(ctx, name, scope)
	group.Wait()
	sweep.Places = places
	return sweep
}

// keep takes a sweep into what is remembered of a domain, judges it, and stores both. A sweep that began before the
// last one ended comes too late to be remembered: it is judged only.
func (s *Checks) keep(ctx context.Context, name dnsname.Name, domainID uint64, plan delegation.Plan, sweep evidence.Sweep, took time.Duration) (report delegation.Report, due time.Time, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		d, err := tx.LockHistory(domainID)
		if err != nil {
			return err
		}
		history, err := d.PastSweeps()
		if err != nil {
			return err
		}
		if d.CheckedAt != nil && sweep.Began.Before(*d.CheckedAt) {
			report = delegation.Judge(plan, history, sweep)
			due = s.nextCheck(report, report.CheckedAt)
			return nil
		}
		last, since, known, err := tx.LastReportSince(d.ID)
		if err != nil {
			return err
		}
		history = delegation.Advance(history, sweep)
		report = delegation.Judge(plan, history, sweep)
		stands := report.News()
		same := known && report.Verdict == d.Verdict && slices.Equal(stands, last.News())
		if !same {
			since = report.CheckedAt
		}
		if err := tx.AddCheck(d.ID, report, history, sweep, took, same); err != nil {
			return err
		}
		if ends := report.Deadlines(); !slices.EqualFunc(ends, last.Deadlines(), delegation.Deadline.Equal) {
			if err := tx.SetDeadlines(d.ID, ends); err != nil {
				return err
			}
		}
		if s.kept != nil {
			if err := s.kept(tx, d); err != nil {
				return err
			}
		}
		due = s.nextCheck(report, since)
		if err := s.jobs.EnqueueWorld(tx, store.JobCheck, d.ID, due); err != nil {
			return err
		}
		if len(delegation.Unheard(report.Deadlines(), last.Deadlines())) > 0 {
			if err := s.notify.TellLater(tx, d.ID); err != nil {
				return err
			}
		}
		switch {
		case same:
			return nil
		case report.Verdict == d.Verdict:
			return logbook.Log(tx, "service", "domain.seen", name.String(), strings.Join(stands, "; "))
		}
		if err := s.notify.TellLater(tx, d.ID); err != nil {
			return err
		}
		return logbook.Log(tx, "service", "domain.verdict", name.String(), fmt.Sprintf("%s, before: %s", report.Verdict.Words(), d.Verdict.Words()))
	})
	if err == nil {
		s.made.WithLabelValues(string(report.Verdict)).Inc()
	}
	return report, due, err
}

// nextCheck is when a domain is due again, simulated time; since is from when on it has stood as it does.
func (s *Checks) nextCheck(r delegation.Report, since time.Time) time.Time {
	return r.Due(since, s.settings.Checks.Settling, s.settings.Checks.Settled)
}

// RunCheck checks a domain in the background, and makes itself due again.
func (s *Checks) RunCheck(ctx context.Context, job store.Job) error {
	var d store.Domain
	var z store.Zone
	err := s.store.Tx(ctx, func(tx *store.Tx) (err error) {
		if d, err = tx.DomainByID(job.Subject); err == nil {
			z, err = zones.ByID(tx, d.ZoneID)
		}
		return err
	})
	if store.IsMissing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	_, due, err := s.checkManaged(ctx, z, d, s.sparingly(d))
	if err != nil {
		return err
	}
	return jobs.Later{World: due, Worked: true}
}

// NewsOf returns how a domain is, for those who are told.
func NewsOf(tx *store.Tx, domainID uint64) (n notify.News, err error) {
	d, err := tx.DomainByID(domainID)
	if err != nil {
		return n, err
	}
	z, err := zones.ByID(tx, d.ZoneID)
	if err != nil {
		return n, err
	}
	n.Domain, n.Verdict = z.Name(), d.Verdict
	n.Last, _, err = tx.LastReport(d.ID)
	return n, err
}
