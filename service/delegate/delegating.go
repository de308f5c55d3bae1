package delegate

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/handover"
	"beacon/core/wording"
	"beacon/registrar"
	"beacon/service/accounts"
	"beacon/service/acts"
	"beacon/service/check"
	"beacon/service/jobs"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// delegating does acts of the kind delegate.
type delegating struct{ s *Delegations }

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
		if _, err := d.s.checks.Check(ctx, access.For(run.Act.RequestedBy), m.request.Domain); err != nil { // what the old side says is kept: the waiting is computed from it
			return next, err
		}
		found, err := d.s.look(ctx, m)
		if err != nil {
			return next, err
		}
		out, reg = found.Delegated, found.registration
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
		next.Outcome = acts.Outcome{State: store.ActDone, Result: out, Findings: out.Findings, Message: "The list to enter by hand: " + dnsname.ShortList(m.target) + "."}
		return next, nil
	}
	step := handover.Next(m.target, m.glue(), reg)
	switch {
	case step == handover.Watch:
		out.Next = "See it settle: beacon watch " + dnsname.Short(m.request.Domain)
		next.Outcome = acts.Outcome{State: store.ActDone, Result: out, Findings: out.Findings, Message: m.holder() + " has the nameservers active: " + dnsname.ShortList(m.target) + "."}
	case step == handover.Activate && m.request.SaveOnly:
		out.Next = "The list is saved and not active. Make it active: beacon delegate " + dnsname.Short(m.request.Domain)
		next.Outcome = acts.Outcome{State: store.ActDone, Result: out, Findings: out.Findings, Message: "The registrar has the nameservers saved, not active: " + dnsname.ShortList(m.target) + "."}
	default:
		next.Request = d.request(m, step, sight{Registration: reg, Look: &out})
	}
	return next, nil
}

// syncPause is how long a delegation in a zone of ours waits before it looks again whether the zone was synced, real time.
const syncPause = 200 * time.Millisecond

// operations returns acts.Waiting while the registrar has not done what it accepted: what this act asked for, or something before it.
func (s *Delegations) operations(ctx context.Context, run *acts.Run, m move) error {
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
	r := &acts.Request{Kind: acts.NameserversSaved, AccountID: m.account.ID, Seen: seen, Intended: intent{Nameservers: m.target}, Log: "at " + m.place + ": " + dnsname.ShortList(m.target),
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
	domain, there, err := domainOf(tx, run.Act.Subject)
	if err != nil || !there {
		return err
	}
	if out, ok := outcome.Result.(wire.Delegated); ok && outcome.State == store.ActDone {
		if err := check.SetWanted(tx, domain.ID, out.Wanted); err != nil {
			return err
		}
	}
	return d.s.checks.Soon(tx, domain.ID)
}
