package delegate

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/handover"
	"beacon/core/handover/compare"
	"beacon/core/record"
	"beacon/registrar"
	"beacon/service/accounts"
	"beacon/service/acts"
	"beacon/service/check"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// move is a domain on its way to another set.
type move struct {
	request   wire.DelegateRequest
	zone      store.Zone
	domain    store.Domain
	account   store.Account // at the registrar; none where the parent is a zone of ours
	place     string        // where the registration is: the account, or the parent zone
	driver    registrar.Driver
	hosts     []delegation.HostObject // nameservers of target within the domain, which need glue
	target    []dnsname.Name
	found     []finding.Finding // in the list itself
	placed    []dnsname.Name    // nameservers that providers assigned to the zone
	earlier   [][]dnsname.Name  // sets that were active before, the newest first
	available []dnsname.Name    // what a list may name without being one of the user's own
	also      []dnsname.Name    // more nameservers to ask
	byHand    bool              // no registrar account is named: a person enters the list there
	begun     bool              // with byHand: a user said so
}

// Preview returns what a delegation would do, and which gates are closed. It changes nothing.
func (s *Delegations) Preview(ctx context.Context, by access.Caller, r wire.DelegateRequest) (wire.Delegated, error) {
	if err := wire.Permit(by, access.See, access.Zone(r.Domain)); err != nil {
		return wire.Delegated{}, err
	}
	m, err := s.moveOf(ctx, r)
	if err != nil {
		return wire.Delegated{}, err
	}
	looked, err := s.look(ctx, m)
	out := looked.Delegated
	if err != nil {
		return out, logbook.Explain(err)
	}
	if m.byHand {
		out.Next = "Nothing was changed. No registrar account is named for the domain: enter the list at the registrar by hand."
		return out, nil
	}
	for step, at := handover.Next(m.target, m.glue(), out.After), out.After; step != handover.Watch && len(out.Steps) < 3; step = handover.Next(m.target, m.glue(), at) {
		if step == handover.Activate && r.SaveOnly {
			break
		}
		out.Steps = append(out.Steps, string(step))
		if step == handover.PutHost {
			at.Hosts = m.glue()
			out.After = at
			continue
		}
		if at.Saved = m.target; step == handover.Activate || !m.driver.Caps().Activation {
			at.Active = m.target
		}
		out.After = at
	}
	out.Next = "This is a preview. Nothing was changed."
	return out, nil
}

// permit returns a problem where the parent is a zone of ours and the caller may not change the delegation in it.
func (m move) permit(by access.Caller) error {
	if p, ours := m.driver.(parentZone); ours {
		return wire.Permit(by, access.Delegate, access.Object{Zone: p.parent.Name(), Name: m.zone.Name()})
	}
	return nil
}

// Delegate stores that a domain is to move, and has it done in the background.
func (s *Delegations) Delegate(ctx context.Context, by access.Caller, r wire.DelegateRequest) (wire.Act, error) {
	return s.DelegateWithin(ctx, by, r, nil)
}

// DelegateWithin is Delegate for a handover.
func (s *Delegations) DelegateWithin(ctx context.Context, by access.Caller, r wire.DelegateRequest, within Within) (wire.Act, error) {
	if err := wire.Permit(by, access.Delegate, access.Zone(r.Domain)); err != nil {
		return wire.Act{}, err
	}
	m, err := s.moveOf(ctx, r)
	if err != nil {
		return wire.Act{}, err
	}
	if err := m.permit(by); err != nil {
		return wire.Act{}, err
	}
	if needs := handover.NeedReason(r.Override); len(needs) > 0 && strings.TrimSpace(r.Reason) == "" {
		return wire.Act{}, wire.Problemf(wire.Invalid, "Passing %s loses answers when it is too early, and needs a reason for the logbook: --reason TEXT. Nothing was changed.", strings.Join(needs, ", "))
	}
	fixed := r
	fixed.Nameservers = nil
	for _, n := range m.target { // what was asked for is fixed now, whatever is desired later
		fixed.Nameservers = append(fixed.Nameservers, n.String())
	}
	return s.startAtRegistrar(ctx, by, wire.ActDelegate, r.Domain, m.account.ID, r.Reason, fixed, within)
}

// moveOf reads what is asked for, and refuses what nobody could do.
func (s *Delegations) moveOf(ctx context.Context, r wire.DelegateRequest) (m move, err error) {
	m.request = r
	offers := 0
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		m.placed, offers = nil, 0
		if m.zone, err = zones.ByName(tx, r.Domain); err != nil {
			return err
		}
		if m.domain, err = check.DomainOrNew(tx, m.zone.ID); err != nil {
			return err
		}
		placements, err := zones.Placements(tx, m.zone.ID)
		if err != nil {
			return err
		}
		for _, p := range placements {
			if len(p.Names()) > 0 {
				offers++
			}
			m.placed = append(m.placed, p.Names()...)
		}
		if m.earlier, err = earlier(tx, m.domain, r.Domain); err != nil {
			return err
		}
		return s.reach(tx, &m)
	})
	if err != nil {
		return m, err
	}
	if m.account.ID != 0 {
		if m.driver, err = s.accounts.Registrar(m.account); err != nil {
			return m, err
		}
	}
	typed := r.Nameservers
	if len(typed) == 0 {
		set, err := s.unnamed(ctx, m, offers)
		if err != nil {
			return m, err
		}
		for _, n := range set {
			typed = append(typed, n.String())
		}
	}
	m.available = dnsname.SortSet(slices.Concat(m.placed, slices.Concat(m.earlier...), m.domain.WantedSet()))
	m.target, m.found = handover.ReadSet(typed, m.available)
	if refused := handover.Refusals(m.found); len(refused) > 0 {
		return m, &wire.Problem{Kind: wire.Invalid, Message: fmt.Sprintf("The nameservers of %s cannot be changed to these. The registrar was not asked.", r.Domain.Unicode()), Findings: m.found}
	}
	if !m.byHand {
		if err := m.driver.Caps().Unfit(registrar.Change{Do: registrar.Save, Nameservers: m.target}); err != nil {
			return m, wire.Problemf(wire.Invalid, "The nameservers of %s cannot be changed to these: %s. The registrar was not asked.", r.Domain.Unicode(), err)
		}
	}
	m.hosts, err = s.hostsOf(ctx, m.zone, m.target)
	return m, err
}

// glue returns the hosts that the registrar is given.
func (m move) glue() []delegation.HostObject {
	if m.byHand || !m.driver.Caps().Hosts {
		return nil
	}
	return m.hosts
}

// reach finds out where a domain's registration is: at an account, in a zone of ours, or with a person.
func (s *Delegations) reach(tx *store.Tx, m *move) (err error) {
	if m.zone.RegistrarID != nil {
		m.account, err = accounts.ByID(tx, *m.zone.RegistrarID)
		m.place = m.account.Name
		return err
	}
	parent, there, err := zones.ParentOf(tx, m.zone.Name())
	if err != nil {
		return err
	}
	if there {
		p := parentZone{s, parent}
		m.driver, m.place = p, p.place()
		return nil
	}
	m.byHand = true
	m.begun, err = s.checks.Begun(tx, m.zone.Name())
	return err
}

// hostsOf returns those of a list of nameservers that are within the zone, with their addresses in its desired records.
func (s *Delegations) hostsOf(ctx context.Context, z store.Zone, list []dnsname.Name) (hosts []delegation.HostObject, err error) {
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		hosts = nil
		for _, n := range list {
			if !n.IsAtOrBelow(z.Name()) {
				continue
			}
			records, err := zones.RecordsAt(tx, z.ID, n)
			if err != nil {
				return err
			}
			h := delegation.HostObject{Name: n}
			for _, r := range records {
				if a, err := netip.ParseAddr(string(r.Data)); err == nil && (r.Type == record.A || r.Type == record.AAAA) {
					h.Addresses = append(h.Addresses, a)
				}
			}
			slices.SortFunc(h.Addresses, netip.Addr.Compare)
			if len(h.Addresses) > 0 { // without one a gate is closed: nobody finds the server
				hosts = append(hosts, h)
			}
		}
		return nil
	})
	return hosts, err
}

// unnamed returns the set that is meant where none is named: the one before, the desired one, or that of the only placement.
func (s *Delegations) unnamed(ctx context.Context, m move, offers int) ([]dnsname.Name, error) {
	name := m.request.Domain.Unicode()
	if m.request.Undo {
		reg, err := s.registration(ctx, m)
		if err != nil {
			return nil, logbook.Explain(err)
		}
		for _, set := range m.earlier {
			if !delegation.SameSet(set, reg.Active) {
				return set, nil
			}
		}
		return nil, wire.Problemf(wire.Blocked, "No earlier set of nameservers is known for %s. Name the nameservers: --nameservers.", name)
	}
	switch {
	case len(m.domain.WantedSet()) > 0:
		return m.domain.WantedSet(), nil
	case offers == 1:
		return dnsname.SortSet(m.placed), nil
	case offers > 1:
		return nil, wire.Problemf(wire.Blocked, "%s is placed at %d providers, and no nameservers are desired. Name the set (--nameservers), or say it in the definition: delegate_to: ACCOUNT.", name, offers)
	}
	return nil, wire.Problemf(wire.Blocked, "No nameservers are known for %s. Sync the zone first (beacon sync %s), or name them.", name, name)
}

// earlier returns the sets that are known to have been active, the newest first: as acts saw them, then as sweeps did.
func earlier(tx *store.Tx, d store.Domain, name dnsname.Name) (list [][]dnsname.Name, err error) {
	past, err := d.PastSweeps()
	if err != nil {
		return nil, err
	}
	seen, err := acts.Before(tx, name.String(), wire.ActDelegate)
	if err != nil {
		return nil, err
	}
	for _, text := range seen {
		var reg delegation.Registration
		if err := json.Unmarshal([]byte(text), &reg); err == nil && len(reg.Active) > 0 {
			list = append(list, reg.Active)
		}
	}
	if past.Former != nil {
		list = append(list, past.Former.Set)
	}
	if len(past.Current.Set) > 0 {
		list = append(list, past.Current.Set)
	}
	return list, nil
}

// seen is what holds before the registrar is asked to change anything.
type seen struct {
	wire.Delegated
	registration delegation.Registration
	sweep        evidence.Sweep
	history      delegation.History // with the sweep in it
	relays       []record.Key       // sets that the old side answers with something of its own, as its account says
}

// look finds out what holds before the registrar is asked to change anything.
func (s *Delegations) look(ctx context.Context, m move) (found seen, err error) {
	name := m.request.Domain
	out := &found.Delegated
	*out = wire.Delegated{Domain: name, Registrar: m.place, Wanted: m.target, Findings: []finding.Finding{}, Steps: []string{}}
	if p, ok := m.driver.(parentZone); ok {
		out.InZone = p.parent.Name().Unicode()
	}
	out.Activation = !m.byHand && m.driver.Caps().Activation
	reg, err := s.registration(ctx, m)
	if err != nil {
		return found, err
	}
	out.Before, out.After, found.registration = reg, reg, reg
	sweep, history, err := s.checks.Look(ctx, m.zone, m.domain, slices.Concat(m.target, m.also), m.hosts)
	if err != nil {
		return found, err
	}
	found.sweep, found.history = sweep, history
	if sweep.Failure != "" {
		return found, wire.Problemf(wire.UpstreamFailed, "How %s is delegated could not be asked: %s. Nothing was changed.", name.Unicode(), sweep.Failure)
	}
	for _, p := range sweep.Parents {
		out.Parent = append(out.Parent, p.NS...)
	}
	out.Parent = dnsname.SortSet(out.Parent)
	if len(history.Current.Set) == 0 && history.Absent == nil {
		return found, wire.Problemf(wire.UpstreamFailed, "Not all nameservers of the zone above %s answer, and without the present delegation "+
			"the time by which the change settles cannot be computed. Nothing changed. Try again in a minute.", name.Unicode())
	}
	out.Differences = []compare.Difference{}
	if err := s.compareSides(ctx, m, out.Parent, &found); err != nil {
		return found, err
	}
	gates := handover.Gates(handover.Facts{Domain: name, Target: m.target, Old: out.Parent, Sweep: sweep, NoIPv6: s.checks.WithoutIPv6(), Registration: reg,
		DS: history.DS, KeyTTL: history.Current.K.At(sweep.Ended), Margin: s.checks.Margin(), Differences: out.Differences, Agreed: m.request.Agree})
	out.Findings = append(slices.Clone(m.found), gates...)
	if p, ok := m.driver.(parentZone); ok {
		more, err := p.elsewhere(ctx, sweep)
		if err != nil {
			return found, err
		}
		out.Findings = append(out.Findings, more...)
	}
	finding.Sort(out.Findings)
	out.Digest = compare.Digest(out.Differences)
	out.Closed = handover.Closed(out.Findings, m.request.Override)
	if m.byHand {
		out.ByHand = byHand(m, out.Parent)
	}
	return found, nil
}

// registration asks the registrar what it holds.
func (s *Delegations) registration(ctx context.Context, m move) (delegation.Registration, error) {
	if m.byHand { // the parents are all that is known
		past, err := m.domain.PastSweeps()
		return delegation.Registration{Active: past.Current.Set, Saved: past.Current.Set}, err
	}
	calling, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	reg, err := m.driver.Look(calling, m.request.Domain)
	return viewRegistration(m.place, reg), err
}

func viewRegistration(account string, reg registrar.Registration) delegation.Registration {
	return delegation.Registration{Account: account, Active: reg.Active, Saved: reg.Saved, Status: reg.Status, Reasons: reg.Reasons, Hosts: reg.Hosts, DS: reg.DS, Keys: reg.Keys, Pending: accounts.PendingWords(reg)}
}
