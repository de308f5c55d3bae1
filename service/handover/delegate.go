package handover

import (
	"context"
	"fmt"
	"strings"

	"beacon/clock"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/handover"
	"beacon/outcall"
	"beacon/registrar"
	"beacon/service/accounts"
	"beacon/service/check"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Delegate changes a domain's nameservers at its registrar. First it is made sure that the new ones can be found and
// answer for the zone, and what the old ones said is remembered; a list that fails is refused before the registrar is
// asked. Each step is safe to repeat: after a crash, the same request goes on where it ended.
func (s *Handover) Delegate(ctx context.Context, r wire.DelegateRequest) (wire.Delegated, error) {
	out := wire.Delegated{Domain: r.Domain, Findings: []finding.Finding{}, Steps: []string{}}
	z, d, account, err := s.delegationSubjects(ctx, r.Domain)
	if err != nil {
		return out, err
	}
	out.Registrar = account.Name
	typed := r.Nameservers
	if len(typed) == 0 {
		for _, n := range d.WantedSet() {
			typed = append(typed, n.String())
		}
	}
	if len(typed) == 0 {
		return out, wire.Problemf(wire.InTheWay, "No nameservers are known for %s. Put the zone out first (beacon sync), or name them.", r.Domain)
	}
	assigned, err := s.assignedTo(ctx, z)
	if err != nil {
		return out, err
	}
	var found []finding.Finding
	if out.Wanted, found = handover.ReadSet(typed, assigned); finding.Worst(found) == finding.Error {
		return out, refusal(r.Domain, found)
	}
	out.Findings = append(out.Findings, found...)
	if err := s.lookBefore(ctx, z, d, &out); err != nil {
		return out, err
	}
	driver, err := s.accounts.Registrar(account)
	if err != nil {
		return out, err
	}
	return out, s.change(ctx, driver, d, r, &out)
}

func (s *Handover) delegationSubjects(ctx context.Context, name dnsname.Name) (z store.Zone, d store.Domain, a store.Account, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		if z, err = zones.ByName(tx, name); err != nil {
			return err
		}
		if z.RegistrarID == nil {
			return wire.Problemf(wire.InTheWay, "Where %s is registered is not known. Name the account in its definition: registrar: ACCOUNT.", name)
		}
		if d, err = check.DomainOf(tx, z.ID); err != nil {
			return err
		}
		a, err = accounts.ByID(tx, *z.RegistrarID)
		return err
	})
	return z, d, a, err
}

// assignedTo gives all nameservers that providers gave the zone.
func (s *Handover) assignedTo(ctx context.Context, z store.Zone) (names []dnsname.Name, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		names = nil
		placements, err := zones.Placements(tx, z.ID)
		for _, p := range placements {
			names = append(names, p.Names()...)
		}
		return err
	})
	return dnsname.SortSet(names), err
}

func refusal(name dnsname.Name, found []finding.Finding) *wire.Problem {
	return &wire.Problem{Kind: wire.Invalid, Message: fmt.Sprintf("The nameservers of %s cannot be changed to these; the registrar was not asked.", name), Findings: found}
}

// lookBefore makes a sweep that includes the new nameservers, refuses those that are not ready, and remembers what the
// old ones said: the TTLs that the waiting will be computed from.
func (s *Handover) lookBefore(ctx context.Context, z store.Zone, d store.Domain, out *wire.Delegated) error {
	looking, cancel := context.WithTimeout(ctx, check.CheckTime)
	defer cancel()
	name := z.Name()
	plan := delegation.Plan{Domain: name, Wanted: out.Wanted}
	sweep := s.sweeper.Sweep(looking, name, check.ResolveScope(name, zones.SitesOf(z), out.Wanted, nil))
	if _, _, err := s.checks.Keep(ctx, name, d.ID, plan, sweep); err != nil {
		return err
	}
	if sweep.Failure != "" {
		return wire.Problemf(wire.Outside, "How %s stands could not be looked at: %s. Nothing was changed.", name, sweep.Failure)
	}
	for _, p := range sweep.Parents {
		out.Parent = append(out.Parent, p.NS...)
	}
	out.Parent = dnsname.SortSet(out.Parent)
	if err := s.knowsBefore(ctx, name, d.ID); err != nil {
		return err
	}
	seen, _ := sweep.Sighted()
	if found := handover.Ready(out.Wanted, seen.Servers, sweep.NoAddress); len(found) > 0 {
		return refusal(name, found)
	}
	out.Findings = append(out.Findings, handover.Differences(out.Parent, out.Wanted, sweep.Servers)...)
	return nil
}

// knowsBefore makes sure that it is remembered how the domain is delegated now: once that is changed, by when caches
// must have let go of it could not be told any more.
func (s *Handover) knowsBefore(ctx context.Context, name dnsname.Name, domainID uint64) error {
	return s.logbook.Tx(ctx, func(tx *store.Tx) error {
		d, err := check.DomainByID(tx, domainID)
		if err != nil {
			return err
		}
		past, err := d.PastSweeps()
		if err != nil || len(past.Current.Set) > 0 || past.Absent != nil {
			return err
		}
		return wire.Problemf(wire.Outside, "Not all nameservers of the zone above %s could be asked how it is delegated now, and without that nobody "+
			"could tell afterwards by when the change has arrived. Nothing was changed; try again in a moment.", name.Unicode())
	})
}

// change makes the steps at the registrar that are left to make.
func (s *Handover) change(ctx context.Context, driver registrar.Driver, d store.Domain, r wire.DelegateRequest, out *wire.Delegated) error {
	domain := strings.TrimSuffix(r.Domain.String(), ".")
	reg, err := s.call(ctx, func(ctx context.Context) (registrar.Registration, error) { return driver.Domain(ctx, r.Domain) })
	if err != nil {
		return logbook.Explain(err)
	}
	show := func(reg registrar.Registration) delegation.Registration {
		return delegation.Registration{Account: out.Registrar, Active: reg.Active, Saved: reg.Saved}
	}
	out.Before, out.After = show(reg), show(reg)
	if !r.DryRun {
		if err := s.logbook.Tx(ctx, func(tx *store.Tx) error { return check.SetWanted(tx, d.ID, out.Wanted) }); err != nil {
			return err
		}
	}
	for range 3 {
		step := handover.Next(out.Wanted, out.After)
		if step == handover.Watch {
			out.Next = "See it arrive: beacon watch " + domain
			break
		}
		if step == handover.Activate && r.SaveOnly {
			out.Next = "The list is saved and not in force. Make it active: beacon delegate " + domain
			break
		}
		out.Steps = append(out.Steps, string(step))
		if r.DryRun {
			out.After.Saved = out.Wanted
			if step == handover.Activate || !driver.Caps().NeedsActivation {
				out.After.Active = out.Wanted
			}
			continue
		}
		reg, err := s.call(ctx, func(ctx context.Context) (registrar.Registration, error) {
			if step == handover.Save {
				return driver.Save(ctx, r.Domain, out.Wanted)
			}
			return driver.Activate(ctx, r.Domain)
		})
		if err != nil {
			return logbook.Explain(err)
		}
		out.After = show(reg)
		s.logbook.Note(ctx, "delegation."+string(step), r.Domain.String(), fmt.Sprintf("at %s: in force %v, saved %v", out.Registrar, reg.Active, reg.Saved))
	}
	if r.DryRun {
		out.Next = "This was a dry run; nothing was changed."
		return nil
	}
	return s.checks.CheckSoon(ctx, d.ID)
}

// call makes one request with its time-out, and repeats it a few times where that is safe: all requests of a
// delegation may be made twice.
func (s *Handover) call(ctx context.Context, do func(context.Context) (registrar.Registration, error)) (reg registrar.Registration, err error) {
	for try := 1; try <= 3; try++ {
		calling, cancel := context.WithTimeout(ctx, s.timeout)
		reg, err = do(calling)
		cancel()
		if err == nil || !outcall.Passing(err) || clock.Pause(ctx, outcall.Backoff(try)) != nil {
			break
		}
	}
	return reg, err
}
