package handover

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/handover"
	"beacon/core/handover/compare"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/registrar"
	"beacon/service/accounts"
	"beacon/service/acts"
	"beacon/service/check"
	"beacon/service/jobs"
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
	byHand    bool              // no registrar account is named: a person enters the list there
	begun     bool              // with byHand: a user said so
}

// Preview returns what a delegation would do, and which gates are closed. It changes nothing.
func (s *Handover) Preview(ctx context.Context, r wire.DelegateRequest) (wire.Delegated, error) {
	m, err := s.moveOf(ctx, r)
	if err != nil {
		return wire.Delegated{}, err
	}
	out, _, err := s.look(ctx, m)
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

// Delegate stores that a domain is to move, and has it done in the background.
func (s *Handover) Delegate(ctx context.Context, r wire.DelegateRequest) (wire.Act, error) {
	m, err := s.moveOf(ctx, r)
	if err != nil {
		return wire.Act{}, err
	}
	if needs := handover.NeedReason(r.Override); len(needs) > 0 && strings.TrimSpace(r.Reason) == "" {
		return wire.Act{}, wire.Problemf(wire.Invalid, "Passing %s loses answers when it is too early, and needs a reason for the logbook: --reason TEXT. Nothing was changed.", strings.Join(needs, ", "))
	}
	var act store.Act
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		if _, err := zones.Lock(tx, r.Domain); err != nil {
			return err
		}
		if running, err := acts.Unfinished(tx, r.Domain.String(), wire.ActDelegate, wire.ActDS); err != nil || running.ID != 0 {
			if err == nil {
				err = wire.Problemf(wire.Blocked, "Act %d, by %s, is changing %s at its registrar. Follow it: beacon act show %d.", running.ID, running.RequestedBy, r.Domain.Unicode(), running.ID)
			}
			return err
		}
		r := r
		r.Nameservers = nil
		for _, n := range m.target { // what was asked for is fixed now, whatever is desired later
			r.Nameservers = append(r.Nameservers, n.String())
		}
		act, err = s.acts.Start(ctx, tx, wire.ActDelegate, r.Domain.String(), m.account.ID, r.Reason, r)
		return err
	})
	if err != nil {
		return wire.Act{}, err
	}
	s.acts.Wake()
	return s.acts.Act(ctx, act.ID)
}

// moveOf reads what is asked for, and refuses what nobody could do.
func (s *Handover) moveOf(ctx context.Context, r wire.DelegateRequest) (m move, err error) {
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
func (s *Handover) reach(tx *store.Tx, m *move) (err error) {
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
func (s *Handover) hostsOf(ctx context.Context, z store.Zone, list []dnsname.Name) (hosts []delegation.HostObject, err error) {
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
func (s *Handover) unnamed(ctx context.Context, m move, offers int) ([]dnsname.Name, error) {
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

// look finds out what holds before the registrar is asked to change anything.
func (s *Handover) look(ctx context.Context, m move) (out wire.Delegated, reg delegation.Registration, err error) {
	name := m.request.Domain
	out = wire.Delegated{Domain: name, Registrar: m.place, Wanted: m.target, Findings: []finding.Finding{}, Steps: []string{}}
	if p, ok := m.driver.(parentZone); ok {
		out.InZone = p.parent.Name().Unicode()
	}
	out.Activation = !m.byHand && m.driver.Caps().Activation
	if reg, err = s.registration(ctx, m); err != nil {
		return out, reg, err
	}
	out.Before, out.After = reg, reg
	sweep, history, err := s.checks.Look(ctx, m.zone, m.domain, m.target, m.hosts)
	if err != nil {
		return out, reg, err
	}
	if sweep.Failure != "" {
		return out, reg, wire.Problemf(wire.UpstreamFailed, "How %s is delegated could not be asked: %s. Nothing was changed.", name.Unicode(), sweep.Failure)
	}
	for _, p := range sweep.Parents {
		out.Parent = append(out.Parent, p.NS...)
	}
	out.Parent = dnsname.SortSet(out.Parent)
	if len(history.Current.Set) == 0 && history.Absent == nil {
		return out, reg, wire.Problemf(wire.UpstreamFailed, "Not all nameservers of the zone above %s answer, and without the present delegation "+
			"the time by which the change settles cannot be computed. Nothing changed. Try again in a minute.", name.Unicode())
	}
	if out.Differences, out.Compared, err = s.compareSides(ctx, m, out.Parent, sweep); err != nil {
		return out, reg, err
	}
	found := handover.Gates(handover.Facts{Domain: name, Target: m.target, Old: out.Parent, Sweep: sweep, NoIPv6: s.checks.WithoutIPv6(), Registration: reg,
		DS: history.DS, KeyTTL: history.Current.K.At(sweep.Ended), Margin: s.checks.Margin(), Differences: out.Differences, Agreed: m.request.Agree})
	out.Findings = append(slices.Clone(m.found), found...)
	if p, ok := m.driver.(parentZone); ok {
		more, err := p.elsewhere(ctx, sweep)
		if err != nil {
			return out, reg, err
		}
		out.Findings = append(out.Findings, more...)
	}
	finding.Sort(out.Findings)
	out.Digest = compare.Digest(out.Differences)
	out.Closed = handover.Closed(out.Findings, m.request.Override)
	if m.byHand {
		out.ByHand = byHand(m, out.Parent)
	}
	return out, reg, nil
}

// registration asks the registrar what it holds.
func (s *Handover) registration(ctx context.Context, m move) (delegation.Registration, error) {
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
	return delegation.Registration{Account: account, Active: reg.Active, Saved: reg.Saved, Status: reg.Status, Reasons: reg.Reasons, Hosts: reg.Hosts, DS: reg.DS, Pending: accounts.PendingWords(reg)}
}

// delegating does acts of the kind delegate.
type delegating struct{ s *Handover }

// Locks returns the lock on all that the registrar has of the domain.
func (d delegating) Locks(tx *store.Tx, act store.Act) ([]string, error) {
	name, err := dnsname.Parse(act.Subject)
	if err != nil {
		return nil, err
	}
	z, err := zones.ByName(tx, name)
	if err != nil {
		return nil, err
	}
	domain, err := check.DomainOf(tx, z.ID)
	return []string{acts.DomainLock(domain.ID)}, err
}

func (d delegating) move(ctx context.Context, run *acts.Run) (m move, err error) {
	var r wire.DelegateRequest
	if err := run.Asked(&r); err != nil {
		return m, err
	}
	if r.Domain, err = dnsname.Parse(run.Act.Subject); err != nil {
		return m, err
	}
	return d.s.moveOf(ctx, r)
}

// Next asks for everything that has to hold, until the registrar was asked to change something; from then on it goes on to the end.
func (d delegating) Next(ctx context.Context, run *acts.Run) (next acts.Decision, err error) {
	m, err := d.move(ctx, run)
	if err != nil {
		return next, err
	}
	if err := d.s.operations(ctx, run, m); err != nil {
		return next, err
	}
	var out wire.Delegated
	var reg delegation.Registration
	if run.Done(acts.HostWritten, acts.NameserversSaved, acts.NameserversActivated) {
		if reg, err = d.s.registration(ctx, m); err != nil {
			return next, err
		}
		out = seenBefore(run, m, reg)
	} else {
		if _, err := d.s.checks.Check(ctx, m.request.Domain); err != nil { // what the old side says is kept: the waiting is computed from it
			return next, err
		}
		if out, reg, err = d.s.look(ctx, m); err != nil {
			return next, err
		}
		if len(out.Closed) > 0 {
			next.Outcome = acts.Outcome{State: store.ActBlocked, Findings: out.Closed, Result: out,
				Message: wording.Counted(len(out.Closed), "gate") + " closed. The registrar was not asked to change anything."}
			return next, nil
		}
	}
	for _, sent := range run.Sent {
		if sent.State == store.ActDone {
			step := map[string]handover.Step{acts.HostWritten: handover.PutHost, acts.NameserversSaved: handover.Save, acts.NameserversActivated: handover.Activate}[sent.Kind]
			if !slices.Contains(out.Steps, string(step)) {
				out.Steps = append(out.Steps, string(step))
			}
		}
	}
	if m.byHand {
		m.begun = true
		out.ByHand = byHand(m, out.Parent)
		out.Next = "Enter the nameservers at the registrar, then follow: beacon watch " + dnsname.Short(m.request.Domain)
		next.Outcome = acts.Outcome{State: store.ActDone, Result: out, Findings: out.Findings, Message: "The list to enter by hand: " + texts(m.target) + "."}
		return next, nil
	}
	step := handover.Next(m.target, m.glue(), reg)
	switch {
	case step == handover.Watch:
		out.Next = "See it settle: beacon watch " + dnsname.Short(m.request.Domain)
		next.Outcome = acts.Outcome{State: store.ActDone, Result: out, Findings: out.Findings, Message: m.holder() + " has the nameservers active: " + texts(m.target) + "."}
	case step == handover.Activate && m.request.SaveOnly:
		out.Next = "The list is saved and not active. Make it active: beacon delegate " + dnsname.Short(m.request.Domain)
		next.Outcome = acts.Outcome{State: store.ActDone, Result: out, Findings: out.Findings, Message: "The registrar has the nameservers saved, not active: " + texts(m.target) + "."}
	default:
		next.Request = d.request(m, step, sight{Registration: reg, Look: &out})
	}
	return next, nil
}

// syncPause is how long a delegation in a zone of ours waits before it looks again whether the zone was synced, real time.
const syncPause = 200 * time.Millisecond

// operations returns acts.Waiting while the registrar has not done what it accepted: what this act asked for, or something before it.
func (s *Handover) operations(ctx context.Context, run *acts.Run, m move) error {
	if m.byHand {
		return nil
	}
	calling, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	for _, sent := range run.Sent {
		if sent.Receipt == "" || sent.State != store.ActDone {
			continue
		}
		receipt, err := m.driver.Poll(calling, m.request.Domain, registrar.Receipt{ID: sent.Receipt})
		if err != nil {
			return err
		}
		if !receipt.Done && m.account.ID == 0 {
			return jobs.Later{At: s.logbook.Now().Add(syncPause), MadeWay: true}
		}
		if !receipt.Done {
			return acts.Waiting(fmt.Sprintf("The registrar accepted the change and does it later (operation %s). Nothing to do until then.", sent.Receipt))
		}
	}
	reg, err := m.driver.Look(calling, m.request.Domain)
	if err != nil {
		return err
	}
	words := accounts.PendingWords(reg)
	if len(words) > 0 && m.account.ID == 0 {
		return jobs.Later{At: s.logbook.Now().Add(syncPause), MadeWay: true}
	}
	if len(words) > 0 {
		return acts.Waiting(fmt.Sprintf("The registrar has not done what it accepted before: %s. Nothing was sent since then.", strings.Join(words, "; ")))
	}
	return nil
}

// sight is what the first request of a delegation saw: the registration, and all that was looked at beside it.
type sight struct {
	delegation.Registration
	Look *wire.Delegated `json:"look,omitempty"`
}

// seenBefore returns what held before the first request, with what the registrar has now.
func seenBefore(run *acts.Run, m move, now delegation.Registration) wire.Delegated {
	out := wire.Delegated{Domain: m.request.Domain, Registrar: m.place, Wanted: m.target, Before: now, Findings: []finding.Finding{}}
	for _, sent := range run.Sent {
		var seen sight
		if json.Unmarshal([]byte(sent.Seen), &seen) != nil {
			continue
		}
		if seen.Look != nil {
			out = *seen.Look
			out.Steps = nil
		}
		out.Before = seen.Registration
		break
	}
	out.After = now
	return out
}

// holder is who has the registration, at the beginning of a sentence.
func (m move) holder() string {
	if m.account.ID == 0 && !m.byHand {
		return wording.Sentence(m.place)
	}
	return "The registrar"
}

// intent is what a request of a delegation is to bring: nameservers, or one host object.
type intent struct {
	Nameservers []dnsname.Name         `json:"nameservers,omitempty"`
	Host        *delegation.HostObject `json:"host,omitempty"`
}

// UnmarshalJSON also reads the plain list that requests had before there were host objects.
func (i *intent) UnmarshalJSON(text []byte) error {
	if err := json.Unmarshal(text, &i.Nameservers); err == nil {
		return nil
	}
	type plain intent
	return json.Unmarshal(text, (*plain)(i))
}

// request makes one step at the registrar. What is desired changes only once a step is done.
func (d delegating) request(m move, step handover.Step, seen sight) *acts.Request {
	change := registrar.Change{Do: registrar.Save, Nameservers: m.target}
	r := &acts.Request{Kind: acts.NameserversSaved, AccountID: m.account.ID, Seen: seen, Intended: intent{Nameservers: m.target}, Log: "at " + m.place + ": " + texts(m.target),
		Done: func(tx *store.Tx) error { return check.SetWanted(tx, m.domain.ID, m.target) }}
	switch step {
	case handover.Activate:
		r.Kind, change.Do = acts.NameserversActivated, registrar.Activate
	case handover.PutHost:
		host := handover.OpenHosts(m.glue(), seen.Registration)[0]
		r.Kind, change = acts.HostWritten, registrar.Change{Do: registrar.PutHost, Host: host}
		r.Intended, r.Done = intent{Host: &host}, nil
		r.Log = fmt.Sprintf("at %s: %s %v", m.place, dnsname.Short(host.Name), host.Addresses)
	}
	r.Send = func(ctx context.Context) (string, error) {
		receipt, err := m.driver.Apply(ctx, m.request.Domain, change)
		if receipt.Done {
			receipt.ID = ""
		}
		return receipt.ID, err
	}
	return r
}

func texts(set []dnsname.Name) string {
	list := make([]string, len(set))
	for i, n := range set {
		list[i] = dnsname.Short(n)
	}
	return strings.Join(list, ", ")
}

// Became asks the registrar whether it has what a request that broke off was to bring.
func (d delegating) Became(ctx context.Context, run *acts.Run, request store.Act) (store.ActState, error) {
	m, err := d.move(ctx, run)
	if err != nil {
		return "", err
	}
	var intended intent
	if err := json.Unmarshal([]byte(request.Intended), &intended); err != nil {
		return "", err
	}
	reg, err := d.s.registration(ctx, m)
	if err != nil {
		return "", err
	}
	if len(reg.Pending) > 0 {
		return "", acts.Waiting("The registrar has an operation under way: " + strings.Join(reg.Pending, "; ") + ".")
	}
	done := false
	switch request.Kind {
	case acts.HostWritten:
		done = intended.Host != nil && len(handover.OpenHosts([]delegation.HostObject{*intended.Host}, reg)) == 0
	case acts.NameserversActivated:
		done = delegation.SameSet(reg.Active, intended.Nameservers)
	default:
		done = delegation.SameSet(reg.Saved, intended.Nameservers)
	}
	if done {
		return store.ActDone, nil
	}
	return store.ActNotApplied, nil
}

// Ended has the domain checked, and makes the set desired that was asked for, where the registrar has it.
func (d delegating) Ended(tx *store.Tx, run *acts.Run, outcome acts.Outcome) error {
	name, err := dnsname.Parse(run.Act.Subject)
	if err != nil {
		return err
	}
	z, err := zones.ByName(tx, name)
	if store.IsMissing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	domain, err := check.DomainOf(tx, z.ID)
	if err != nil {
		return err
	}
	if out, ok := outcome.Result.(wire.Delegated); ok && outcome.State == store.ActDone {
		if err := check.SetWanted(tx, domain.ID, out.Wanted); err != nil {
			return err
		}
	}
	return d.s.checks.Soon(tx, domain.ID)
}
