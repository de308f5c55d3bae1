package delegate

import (
	"context"
	"encoding/json"
	"slices"
	"strings"

	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/handover"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/registrar"
	"beacon/service/acts"
	"beacon/service/check"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// PreviewDS returns what a change of the DS set would do, and which gates are closed. It changes nothing.
func (s *Delegations) PreviewDS(ctx context.Context, by access.Caller, r wire.DSRequest) (out wire.DSChange, err error) {
	if err := wire.Permit(by, access.See, access.Zone(r.Domain)); err != nil {
		return out, err
	}
	m, err := s.registered(ctx, r.Domain)
	if err != nil {
		return out, err
	}
	out, _, err = s.lookDS(ctx, m, r)
	if err != nil {
		return out, logbook.Explain(err)
	}
	out.Next = dsNext(out, r)
	return out, nil
}

// dsNext is what to do after a preview.
func dsNext(out wire.DSChange, r wire.DSRequest) string {
	follow := ", then follow: beacon watch " + dnsname.Short(r.Domain)
	switch {
	case !out.Pending && len(out.DS) == 0:
		return "Nothing to do: no DS is published, and none is to be."
	case !out.Pending:
		return "Nothing to do: this DS set is published."
	case len(out.Closed) > 0 && len(out.DS) == 0:
		return "Nothing was changed."
	case out.ByHand && len(out.DS) == 0:
		return "Nothing was changed. Remove the DS records at the registrar by hand" + follow
	case out.ByHand:
		return "Nothing was changed. Enter the DS records at the registrar by hand" + follow
	}
	return "This is a preview. Nothing was changed."
}

// ChangeDS stores that a DS set is to be changed, and has it done in the background.
func (s *Delegations) ChangeDS(ctx context.Context, by access.Caller, r wire.DSRequest) (wire.Act, error) {
	return s.ChangeDSWithin(ctx, by, r, nil)
}

// ChangeDSWithin is ChangeDS for a handover.
func (s *Delegations) ChangeDSWithin(ctx context.Context, by access.Caller, r wire.DSRequest, within Within) (wire.Act, error) {
	if err := wire.Permit(by, access.Delegate, access.Zone(r.Domain)); err != nil {
		return wire.Act{}, err
	}
	m, err := s.registered(ctx, r.Domain)
	if err != nil {
		return wire.Act{}, err
	}
	if err := m.permit(by); err != nil {
		return wire.Act{}, err
	}
	if len(r.Override) > 0 && strings.TrimSpace(r.Reason) == "" {
		return wire.Act{}, wire.Problemf(wire.Invalid, "Passing %s may lose answers, and needs a reason for the logbook: --reason TEXT. Nothing was changed.", strings.Join(r.Override, ", "))
	}
	if m.byHand || m.driver.Caps().DS == registrar.NoDS {
		return wire.Act{}, wire.Problemf(wire.Blocked, "The DS records of %s have to be entered at the registrar by hand: beacon ds show %s lists them. Nothing was changed.", r.Domain.Unicode(), dnsname.Short(r.Domain))
	}
	return s.startAtRegistrar(ctx, by, wire.ActDS, r.Domain, m.account.ID, r.Reason, r, within)
}

// startAtRegistrar stores what is to change at the registrar of a domain, unless another act is changing it, and has it done.
func (s *Delegations) startAtRegistrar(ctx context.Context, by access.Caller, kind string, domain dnsname.Name, account uint64, reason string, asked any, within Within) (wire.Act, error) {
	var act store.Act
	err := s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := zones.Lock(tx, domain)
		if err != nil {
			return err
		}
		if err := s.free(tx, z, within); err != nil {
			return err
		}
		running, err := acts.Unfinished(tx, domain.String(), wire.ActDelegate, wire.ActDS, wire.ActLock)
		if err != nil {
			return err
		}
		if running.ID != 0 {
			return wire.Problemf(wire.Blocked, "Act %d, by %s, is changing %s at its registrar. Follow it: beacon act show %d.", running.ID, running.RequestedBy, domain.Unicode(), running.ID)
		}
		if act, err = s.acts.Start(by, tx, kind, domain.String(), account, reason, asked); err != nil {
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

// registered finds a domain and where its registration is.
func (s *Delegations) registered(ctx context.Context, name dnsname.Name) (m move, err error) {
	m.request.Domain = name
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		if m.zone, err = zones.ByName(tx, name); err != nil {
			return err
		}
		if m.domain, err = check.DomainOrNew(tx, m.zone.ID); err != nil {
			return err
		}
		return s.reach(tx, &m)
	})
	if err == nil && m.account.ID != 0 {
		m.driver, err = s.accounts.Registrar(m.account)
	}
	return m, err
}

// lookDS finds out what holds before a DS set is changed, and the change that is needed.
func (s *Delegations) lookDS(ctx context.Context, m move, r wire.DSRequest) (out wire.DSChange, c registrar.Change, err error) {
	out = wire.DSChange{Domain: r.Domain, Registrar: m.place, Parent: []record.Data{}, Before: []record.Data{}, DS: []record.Data{}, Keys: []record.Data{}, Findings: []finding.Finding{}}
	f := handover.DSFacts{Domain: r.Domain, Remove: r.Remove, Compare: r.Compare}
	var has registrar.Registration
	if !m.byHand {
		calling, cancel := context.WithTimeout(ctx, s.timeout)
		has, err = m.driver.Look(calling, r.Domain)
		cancel()
		if err != nil {
			return out, c, err
		}
		f.Registration = viewRegistration(m.place, has)
		out.Before = append(out.Before, has.DS...)
	}
	sweep, history, err := s.checks.Look(ctx, m.zone, m.domain, nil, nil)
	if err != nil {
		return out, c, err
	}
	if sweep.Failure != "" {
		return out, c, wire.Problemf(wire.UpstreamFailed, "How %s is delegated could not be asked: %s. Nothing was changed.", r.Domain.Unicode(), sweep.Failure)
	}
	for _, p := range sweep.Parents {
		for _, ds := range p.DS.DS() {
			data := record.Data(strings.TrimPrefix(ds.String(), ds.Hdr.String()))
			if d, err := record.ParseData(record.DS, string(data), dnsname.Root); err == nil && !slices.Contains(out.Parent, d) {
				out.Parent = append(out.Parent, d)
			}
		}
	}
	slices.Sort(out.Parent)
	f.Active, f.Sweep = history.Current.Set, sweep
	plan := handover.PlanDS(f)
	out.DS, out.Keys = append(out.DS, plan.DS...), append(out.Keys, plan.Keys...)
	if parent, ours := m.driver.(parentZone); ours && len(plan.DS) > 0 {
		unfit, err := parent.withoutDS(ctx)
		if err != nil {
			return out, c, err
		}
		plan.Found = append(handover.UnfitParent(r.Domain, parent.parent.Name(), unfit), plan.Found...)
	}
	out.Findings = append(out.Findings, plan.Found...)
	out.Closed = append([]finding.Finding{}, handover.Closed(plan.Found, r.Override)...)
	c = registrar.Change{Do: registrar.SetDS, DS: plan.DS, Keys: plan.Keys}
	if m.byHand || m.driver.Caps().DS == registrar.NoDS {
		out.ByHand = true
		out.Pending = !slices.Equal(out.Parent, out.DS)
		return out, c, nil
	}
	out.Pending = !has.Has(c, m.driver.Caps())
	return out, c, nil
}

// dsChanging does acts of the kind ds.
type dsChanging struct{ s *Delegations }

// Locks returns the lock on all that the registrar has of the domain.
func (d dsChanging) Locks(tx *store.Tx, act store.Act) ([]string, error) {
	return delegating(d).Locks(tx, act)
}

func (d dsChanging) asked(ctx context.Context, run *acts.Run) (m move, r wire.DSRequest, err error) {
	if err := run.Asked(&r); err != nil {
		return m, r, err
	}
	if r.Domain, err = dnsname.Parse(run.Act.Subject); err != nil {
		return m, r, err
	}
	m, err = d.s.registered(ctx, r.Domain)
	return m, r, err
}

// Next asks for everything that has to hold, sends the change, and sees that the registrar has it.
func (d dsChanging) Next(ctx context.Context, run *acts.Run) (next acts.Decision, err error) {
	m, r, err := d.asked(ctx, run)
	if err != nil {
		return next, err
	}
	if err := d.s.operations(ctx, run, m); err != nil {
		return next, err
	}
	out, c, err := d.s.lookDS(ctx, m, r)
	if err != nil {
		return next, err
	}
	switch {
	case !out.Pending:
		out.Next = "See it settle: beacon watch " + dnsname.Short(r.Domain)
		next.Outcome = acts.Outcome{State: store.ActDone, Result: out, Findings: out.Findings, Message: m.holder() + " has " + dsWords(out.DS) + "."}
	case len(out.Closed) > 0:
		next.Outcome = acts.Outcome{State: store.ActBlocked, Findings: out.Closed, Result: out,
			Message: wording.Counted(len(out.Closed), "gate") + " closed. The registrar was not asked to change anything."}
	default:
		next.Request = &acts.Request{Kind: acts.DSWritten, AccountID: m.account.ID, Seen: delegation.Registration{Account: out.Registrar, DS: out.Before}, Intended: c, Log: "at " + m.place + ": " + dsWords(out.DS),
			Send: func(ctx context.Context) (string, error) {
				receipt, err := m.driver.Apply(ctx, r.Domain, c)
				return receipt.ID, err
			}}
	}
	return next, nil
}

func dsWords(list []record.Data) string {
	if len(list) == 0 {
		return "no DS records"
	}
	tags := make([]string, len(list))
	for i, d := range list {
		tags[i], _, _ = strings.Cut(string(d), " ")
	}
	return "DS records of the keys " + strings.Join(tags, ", ")
}

// Became looks whether the registrar has the DS set of a request that broke off.
func (d dsChanging) Became(ctx context.Context, run *acts.Run, request store.Act) (store.ActState, error) {
	m, r, err := d.asked(ctx, run)
	if err != nil {
		return "", err
	}
	return d.s.becameAt(ctx, m, r.Domain, request)
}

// becameAt looks whether the registrar has what a request that broke off was to bring, which is kept with it as a change.
func (s *Delegations) becameAt(ctx context.Context, m move, domain dnsname.Name, request store.Act) (store.ActState, error) {
	var c registrar.Change
	if err := json.Unmarshal([]byte(request.Intended), &c); err != nil {
		return "", err
	}
	calling, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	has, err := m.driver.Look(calling, domain)
	switch {
	case err != nil:
		return "", err
	case has.Has(c, m.driver.Caps()):
		return store.ActDone, nil
	case len(has.Pending) > 0:
		return "", acts.Waiting("The registrar has an operation under way: " + has.Pending[0].What + ".")
	}
	return store.ActNotApplied, nil
}

// Ended has the domain checked.
func (d dsChanging) Ended(tx *store.Tx, run *acts.Run, _ acts.Outcome) error {
	return d.s.checkSoon(tx, run.Act.Subject)
}

// checkSoon has the domain of an act checked, where it is still managed here.
func (s *Delegations) checkSoon(tx *store.Tx, subject string) error {
	domain, there, err := domainOf(tx, subject)
	if err != nil || !there {
		return err
	}
	return s.checks.Soon(tx, domain.ID)
}

// domainOf returns the domain that an act is about; there is false where it is not managed here any more.
func domainOf(tx *store.Tx, subject string) (d store.Domain, there bool, err error) {
	name, err := dnsname.Parse(subject)
	if err != nil {
		return d, false, err
	}
	z, err := zones.ByName(tx, name)
	if store.IsMissing(err) {
		return d, false, nil
	}
	if err != nil {
		return d, false, err
	}
	d, err = check.DomainOf(tx, z.ID)
	return d, err == nil, err
}
