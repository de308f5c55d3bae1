package delegate

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/outcall"
	"beacon/provider"
	"beacon/service/acts"
	"beacon/service/check"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// The codes of the guards before a zone is taken from a provider.
const (
	GuardStillDelegated = "zone-still-delegated" // the parent leads there
	GuardStillAsked     = "zone-still-asked"     // caches may still lead there
)

// PreviewRetire returns what a retirement would do, and which guards block it. It changes nothing.
func (s *Delegations) PreviewRetire(ctx context.Context, by access.Caller, r wire.RetireRequest) (wire.Retired, error) {
	if err := wire.Permit(by, access.See, access.Zone(r.Zone)); err != nil {
		return wire.Retired{}, err
	}
	p, out, err := s.retiring(ctx, r)
	if err != nil || p.Placement.RemoteID == "" || r.Keep {
		return out, err
	}
	report, err := s.checks.Preview(ctx, r.Zone)
	if err != nil {
		return out, err
	}
	out.Guards = retireGuards(r, p.Placement.Names(), report)
	return out, nil
}

// Retire stores that a zone is to be taken from a provider, and has it done in the background.
func (s *Delegations) Retire(ctx context.Context, by access.Caller, r wire.RetireRequest) (wire.Act, error) {
	return s.RetireWithin(ctx, by, r, nil)
}

// RetireWithin is Retire for a handover.
func (s *Delegations) RetireWithin(ctx context.Context, by access.Caller, r wire.RetireRequest, within Within) (wire.Act, error) {
	if err := wire.Permit(by, access.Place, access.Zone(r.Zone)); err != nil {
		return wire.Act{}, err
	}
	if err := reasoned(r.Override, r.Reason); err != nil {
		return wire.Act{}, err
	}
	p, _, err := s.retiring(ctx, r)
	if err != nil {
		return wire.Act{}, err
	}
	var act store.Act
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := zones.Lock(tx, r.Zone)
		if err != nil {
			return err
		}
		if err := s.free(tx, z, within); err != nil {
			return err
		}
		if running, err := acts.Unfinished(tx, r.Zone.String(), wire.ActRetire); err != nil || running.ID != 0 {
			if err == nil {
				err = wire.Problemf(wire.Blocked, "Act %d, by %s, is taking %s from a provider. Follow it: beacon act show %d.", running.ID, running.RequestedBy, r.Zone.Unicode(), running.ID)
			}
			return err
		}
		if act, err = s.acts.Start(by, tx, wire.ActRetire, r.Zone.String(), p.Account.ID, r.Reason, r); err != nil {
			return err
		}
		return within.started(tx, act)
	})
	if err != nil {
		return wire.Act{}, err
	}
	s.acts.Wake()
	return s.acts.Act(ctx, by, act.ID)
}

// reasoned returns a problem where safety gates are overridden without a reason.
func reasoned(override []string, reason string) error {
	if len(override) > 0 && strings.TrimSpace(reason) == "" {
		return wire.Problemf(wire.Invalid, "A safety gate is overridden with a reason: --reason TEXT. Nothing was changed.")
	}
	return nil
}

// retiring finds the placement that is meant.
func (s *Delegations) retiring(ctx context.Context, r wire.RetireRequest) (p sync.Place, out wire.Retired, err error) {
	out = wire.Retired{Zone: r.Zone, Account: r.Account, Left: []string{}, Guards: []finding.Finding{}}
	places, err := s.syncs.PlacesOf(ctx, r.Zone)
	if err != nil {
		return p, out, err
	}
	at := slices.IndexFunc(places, func(p sync.Place) bool { return p.Account.Name == r.Account })
	if at < 0 {
		return p, out, wire.Problemf(wire.NotFound, "Zone %s is not placed at %s.", r.Zone.Unicode(), r.Account)
	}
	for i, other := range places {
		if i != at {
			out.Left = append(out.Left, other.Account.Name)
		}
	}
	return places[at], out, nil
}

// retirement does acts of the kind retire.
type retirement struct{ s *Delegations }

func (d retirement) asked(act store.Act) (r wire.RetireRequest, err error) {
	if err = (&acts.Run{Act: act}).Asked(&r); err == nil {
		r.Zone, err = dnsname.Parse(act.Subject)
	}
	return r, err
}

// Locks returns the lock on the zone at the provider, and that on the domain where its zone goes.
func (d retirement) Locks(tx *store.Tx, act store.Act) ([]string, error) {
	r, err := d.asked(act)
	if err != nil {
		return nil, err
	}
	z, err := zones.ByName(tx, r.Zone)
	if err != nil {
		return nil, err
	}
	placements, err := zones.Placements(tx, z.ID)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, p := range placements {
		if p.AccountID == act.AccountID {
			names = append(names, acts.PlacementLock(p.ID))
		}
	}
	if !r.Keep {
		domain, err := check.DomainOf(tx, z.ID)
		if err != nil {
			return nil, err
		}
		names = append(names, acts.DomainLock(domain.ID))
	}
	return names, nil
}

// Next waits for a sync that has not ended, then for what the guards say, and removes the zone.
func (d retirement) Next(ctx context.Context, run *acts.Run) (next acts.Decision, err error) {
	r, err := d.asked(run.Act)
	if err != nil {
		return next, err
	}
	p, out, err := d.s.retiring(ctx, r)
	if err != nil {
		return next, err
	}
	out.Removed = run.Done(acts.ZoneRemoved)
	done := acts.Decision{Outcome: acts.Outcome{State: store.ActDone, Message: "The zone is removed from " + r.Account + "."}}
	if r.Keep || p.Placement.RemoteID == "" {
		done.Outcome.Message = "The zone is no longer managed at " + r.Account + "."
	}
	if out.Removed || r.Keep || p.Placement.RemoteID == "" {
		done.Outcome.Result = out
		return done, d.syncEnded(ctx, p)
	}
	if err := d.syncEnded(ctx, p); err != nil {
		return next, err
	}
	report, err := d.s.checks.Check(ctx, access.For(run.Act.RequestedBy), r.Zone)
	if err != nil {
		return next, err
	}
	out.Guards = retireGuards(r, p.Placement.Names(), report)
	blocking := slices.DeleteFunc(slices.Clone(out.Guards), func(f finding.Finding) bool { return slices.Contains(r.Override, f.Code) })
	if len(blocking) > 0 {
		next.Outcome = acts.Outcome{State: store.ActBlocked, Message: "A guard blocks this. Nothing was changed.", Findings: blocking, Result: out}
		return next, nil
	}
	next.Request = &acts.Request{Kind: acts.ZoneRemoved, AccountID: p.Account.ID, Seen: p.Ref(), Intended: nil, Log: "at " + r.Account,
		Send: func(ctx context.Context) (string, error) {
			err := p.Driver.Remove(ctx, p.Ref())
			if outcall.KindOf(err) == outcall.NotFound {
				return "", nil
			}
			return "", err
		}}
	return next, nil
}

// syncEnded returns a time to come again while a sync of the placement has not ended.
func (d retirement) syncEnded(ctx context.Context, p sync.Place) error {
	return d.s.logbook.Look(ctx, func(tx *store.Tx) error {
		running, err := sync.Unfinished(tx, p.Placement.ID)
		if err == nil && running.ID != 0 {
			err = jobs.Later{At: d.s.logbook.Now().Add(200 * time.Millisecond), MadeWay: true}
		}
		return err
	})
}

// Became looks whether the zone is still there.
func (d retirement) Became(ctx context.Context, run *acts.Run, _ store.Act) (store.ActState, error) {
	r, err := d.asked(run.Act)
	if err != nil {
		return "", err
	}
	p, _, err := d.s.retiring(ctx, r)
	if err != nil {
		return "", err
	}
	looking, cancel := context.WithTimeout(ctx, 4*d.s.timeout)
	defer cancel()
	_, there, err := provider.FindZone(looking, p.Driver, r.Zone)
	if err != nil {
		return "", err
	}
	if there {
		return store.ActNotApplied, nil
	}
	return store.ActDone, nil
}

// Ended forgets the placement, where the zone is gone or is to be left alone.
func (d retirement) Ended(tx *store.Tx, run *acts.Run, outcome acts.Outcome) error {
	if outcome.State != store.ActDone {
		return nil
	}
	r, err := d.asked(run.Act)
	if err != nil {
		return err
	}
	z, err := zones.Lock(tx, r.Zone)
	if err != nil {
		return err
	}
	placements, err := zones.Placements(tx, z.ID)
	if err != nil {
		return err
	}
	for _, p := range placements {
		if p.AccountID == run.Act.AccountID {
			if err := zones.RemovePlacement(tx, p.ID); err != nil {
				return err
			}
		}
	}
	return logbook.Log(tx, run.Act.RequestedBy, "zone.retired", r.Zone.String(), outcome.Message)
}

// retireGuards returns who may still be led to the nameservers that would stop answering.
func retireGuards(r wire.RetireRequest, names []dnsname.Name, report delegation.Report) (found []finding.Finding) {
	found = []finding.Finding{}
	if r.Keep { // they go on answering
		return found
	}
	leads := func(sources []delegation.Source) bool {
		return slices.ContainsFunc(sources, func(source delegation.Source) bool {
			return slices.ContainsFunc(source.Nameservers, func(n dnsname.Name) bool { return slices.Contains(names, n) })
		})
	}
	asked := slices.ContainsFunc(report.Parents, func(source delegation.Source) bool { return len(source.Nameservers) > 0 })
	say := func(code string, severity finding.Severity, message, remedy string) {
		found = append(found, finding.Finding{Code: code, Severity: severity, Subject: r.Zone.Unicode(), Message: message,
			Remedy: remedy + " If it is intended all the same: --override " + code + " --reason TEXT."})
	}
	text := make([]string, len(names))
	for i, n := range names {
		text[i] = dnsname.Short(n)
	}
	old := slices.ContainsFunc(report.Old, func(n dnsname.Name) bool { return slices.Contains(names, n) })
	switch {
	case leads(report.Parents):
		say(GuardStillDelegated, finding.Error, fmt.Sprintf("The parent delegates to nameservers of this account (%s): the domain would get no answers there any more.", strings.Join(text, ", ")),
			"Delegate it elsewhere first (beacon delegate), and wait until it has settled.")
	case !asked && report.Verdict == delegation.Unknown:
		say(GuardStillDelegated, finding.Error, "Where the parent delegates to could not be asked.", "Check again when the parent answers (beacon check).")
	case report.SettlesBy != nil && report.CheckedAt.Before(*report.SettlesBy) && old:
		say(GuardStillAsked, finding.Warning, fmt.Sprintf("Caches may still hold the old nameservers until %s.", report.SettlesBy.UTC().Format("2006-01-02 15:04:05")),
			"Wait until then.")
	}
	return found
}
