package handover

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/handover"
	"beacon/service/later"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// word changes the open handover of a domain as a user says, and has it looked at now.
func (s *Handover) word(ctx context.Context, by access.Caller, r access.Object, do func(tx *store.Tx, p *plan) error) (out wire.Handover, err error) {
	if err := wire.Permit(by, access.Delegate, r); err != nil {
		return out, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := zones.ByName(tx, r.Zone)
		if err != nil {
			return err
		}
		row, err := tx.OpenHandover(z.ID)
		if err != nil {
			return err
		}
		if row.ID == 0 {
			return wire.Problemf(wire.NotFound, "No handover of %s is open. Begin one: beacon handover begin %s --to ACCOUNT.", r.Zone.Unicode(), r.Zone.Unicode())
		}
		if row, err = tx.LockHandover(row.ID); err != nil {
			return err
		}
		p, err := s.read(tx, row)
		if err != nil {
			return err
		}
		if err := do(tx, &p); err != nil {
			return err
		}
		p.NextAt = nil
		if err := tx.SaveHandover(p.Handover); err != nil || p.Ended() {
			return err
		}
		return s.due(tx, p.Handover)
	})
	if err != nil {
		return out, err
	}
	s.jobs.Wake(store.JobHandover)
	return s.Show(ctx, by, r.Zone)
}

// says keeps what a user says of a handover, with a line of the logbook.
func (s *Handover) says(tx *store.Tx, by access.Caller, p *plan, kind, about, reason string) error {
	if err := s.mark(tx, p.Handover, store.HandoverMark{Kind: kind, About: about, SaidBy: by.Name, Detail: reason}); err != nil {
		return err
	}
	detail := jobText(*p)
	if about != "" {
		detail += ", " + about
	}
	if reason != "" {
		detail += ": " + reason
	}
	return logbook.Log(tx, by.Name, "handover."+kind, p.zone.Name().String(), detail)
}

// Next allows what is asked, agrees to differences, or passes gates, and has what failed begun again.
func (s *Handover) Next(ctx context.Context, by access.Caller, r wire.HandoverWord) (wire.Handover, error) {
	if err := allowable(r.Allow); err != nil {
		return wire.Handover{}, err
	}
	safety := slices.DeleteFunc(slices.Clone(r.Pass), func(code string) bool { return slices.Contains(handover.Comforts(), code) })
	if len(safety) > 0 && strings.TrimSpace(r.Reason) == "" {
		return wire.Handover{}, wire.Problemf(wire.Invalid, "Passing %s loses answers when it is too early, and needs a reason for the logbook: --reason TEXT. Nothing was changed.", strings.Join(safety, ", "))
	}
	return s.word(ctx, by, access.Zone(r.Domain), func(tx *store.Tx, p *plan) error {
		if p.State == store.HandoverPaused {
			return wire.Problemf(wire.Blocked, "The handover of %s is paused. Resume it first: beacon handover resume %s. Nothing was changed.", r.Domain.Unicode(), r.Domain.Unicode())
		}
		allow := r.Allow
		if len(allow)+len(r.Pass) == 0 && r.Agree == "" && p.last.Asked != nil && p.last.Asked.Do != "" {
			allow = []handover.Do{p.last.Asked.Do}
		}
		if len(allow)+len(r.Pass) == 0 && r.Agree == "" && p.last.Trouble == "" {
			return wire.Problemf(wire.Blocked, "The handover of %s asks for nothing that can be allowed. See it: beacon handover show %s. Nothing was changed.", r.Domain.Unicode(), r.Domain.Unicode())
		}
		if r.Agree != "" && r.Agree != p.last.Digest {
			return wire.Problemf(wire.Blocked, "The two sides of %s do not differ as the digest %s says. Look at the differences again: beacon handover show %s. Nothing was changed.", r.Domain.Unicode(), r.Agree, r.Domain.Unicode())
		}
		for _, code := range r.Pass {
			if !slices.ContainsFunc(p.last.closedGates(), func(f finding.Finding) bool { return f.Code == code }) {
				return wire.Problemf(wire.Invalid, "No gate %s is closed. Nothing was changed.", code)
			}
		}
		for _, do := range allow {
			if slices.Contains(p.allowed(), do) {
				continue
			}
			if err := s.says(tx, by, p, markAllowed, string(do), r.Reason); err != nil {
				return err
			}
		}
		if r.Agree != "" {
			if err := s.says(tx, by, p, markAgreed, r.Agree, r.Reason); err != nil {
				return err
			}
		}
		for _, code := range r.Pass {
			if err := s.says(tx, by, p, markPassed, code, r.Reason); err != nil {
				return err
			}
		}
		if p.last.Trouble != "" {
			for _, do := range p.last.Do {
				if err := s.says(tx, by, p, markRetry, string(do), r.Reason); err != nil {
					return err
				}
			}
		}
		p.answered()
		return nil
	})
}

// answered takes back what was asked: whether it is asked again, the next decision says.
func (p *plan) answered() {
	p.last.Asked, p.last.Trouble = nil, ""
	p.Asked, p.Asks, p.Decided = "", "", jsonText(p.last)
}

// Pause stops a handover from beginning anything. What was begun ends; the domain is still looked at.
func (s *Handover) Pause(ctx context.Context, by access.Caller, r wire.HandoverEnd) (wire.Handover, error) {
	return s.word(ctx, by, access.Zone(r.Domain), func(tx *store.Tx, p *plan) error {
		if p.State == store.HandoverPaused {
			return nil
		}
		p.State = store.HandoverPaused
		return s.says(tx, by, p, markPaused, "", r.Reason)
	})
}

// Resume lets a paused handover go on.
func (s *Handover) Resume(ctx context.Context, by access.Caller, r wire.HandoverEnd) (wire.Handover, error) {
	return s.word(ctx, by, access.Zone(r.Domain), func(tx *store.Tx, p *plan) error {
		if p.State == store.HandoverOpen {
			return nil
		}
		p.State = store.HandoverOpen
		return s.says(tx, by, p, markResumed, "", r.Reason)
	})
}

// Abandon ends a handover and undoes nothing.
func (s *Handover) Abandon(ctx context.Context, by access.Caller, r wire.HandoverEnd) (wire.Handover, error) {
	return s.word(ctx, by, access.Zone(r.Domain), func(tx *store.Tx, p *plan) error { return s.end(tx, by, p, r.Reason) })
}

// end ends a handover as abandoned. An act that is under way is in the way: what becomes of it is not known yet.
func (s *Handover) end(tx *store.Tx, by access.Caller, p *plan, reason string) error {
	h, err := begunBy(tx, *p)
	if err != nil {
		return err
	}
	if h.busy {
		return wire.Problemf(wire.Blocked, "An act of handover %d is under way. Wait until it has ended, or cancel it: beacon act list %s. Nothing was changed.", p.ID, p.zone.Name().Unicode())
	}
	now := s.world.Now()
	p.State, p.EndedAt = store.HandoverAbandoned, &now
	if err := s.restore(tx, by, *p); err != nil {
		return err
	}
	if err := later.Propose(tx, p.ZoneID); err != nil {
		return err
	}
	return s.says(tx, by, p, markEnded, string(wire.HandoverAbandoned), reason)
}

// Back goes back. Before the registrar was asked for anything, the handover ends; afterwards another one leads back to the old nameservers.
func (s *Handover) Back(ctx context.Context, by access.Caller, r wire.HandoverEnd) (out wire.Handover, err error) {
	var p plan
	var back wire.HandoverBack
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		z, err := zones.ByName(tx, r.Domain)
		if err != nil {
			return err
		}
		row, err := tx.LastHandover(z.ID)
		if err != nil {
			return err
		}
		if row.ID == 0 {
			return wire.Problemf(wire.NotFound, "No handover of %s is known.", r.Domain.Unicode())
		}
		if p, err = s.read(tx, row); err != nil {
			return err
		}
		back, err = s.back(tx, p)
		return err
	})
	switch {
	case err != nil:
		return out, err
	case !back.Possible:
		return out, wire.Problemf(wire.Blocked, "%s Nothing was changed.", back.Text)
	case back.Cheap:
		return s.Abandon(ctx, by, r)
	}
	for _, action := range []access.Action{access.Delegate, access.Sync, access.Place} {
		if err := wire.Permit(by, action, access.Zone(r.Domain)); err != nil {
			return out, err
		}
	}
	if !p.Ended() {
		if _, err := s.Abandon(ctx, by, wire.HandoverEnd{Domain: r.Domain, Reason: "going back"}); err != nil {
			return out, err
		}
	}
	return s.begin(ctx, by, reverse(p, r.Reason), p.ID)
}

// reverse is the request that leads back on a handover. The new side stays: who goes back once may come again.
func reverse(p plan, reason string) wire.HandoverRequest {
	r := wire.HandoverRequest{Domain: p.zone.Name(), To: p.from, KeepOld: true, Reason: reason, Allow: []handover.Do{handover.DoRemoveDS, handover.DoDelegate}}
	if r.To == "" {
		r.Nameservers = asTyped(p.course.Old)
	}
	return r
}

// back is how one can go back on a handover.
func (s *Handover) back(tx *store.Tx, p plan) (b wire.HandoverBack, err error) {
	name := p.zone.Name()
	b.Command = fmt.Sprintf("beacon handover back %s", name.Unicode())
	_, old, err := placementAt(tx, p.ZoneID, p.OldAccount)
	if err != nil {
		return b, err
	}
	past, err := p.domain.PastSweeps()
	if err != nil {
		return b, err
	}
	moved := delegation.SameSet(past.Current.Set, p.course.New) && len(p.course.New) > 0
	asked := moved || slices.ContainsFunc(p.marks, func(m store.HandoverMark) bool {
		return m.Kind == markBegun && m.About == string(handover.DoDelegate) && m.ActID != nil
	})
	removed := slices.ContainsFunc(p.marks, func(m store.HandoverMark) bool {
		return m.Kind == markBegun && m.About == string(handover.DoRemoveDS) && m.ActID != nil
	})
	from := p.from
	if from == "" {
		from = dnsname.ShortList(p.course.Old)
	}
	switch {
	case !asked && p.Ended():
		b.Command, b.Text = "", "The nameservers were not changed: there is nothing to go back on."
	case !asked:
		b.Possible, b.Cheap, b.Text = true, true, "The nameservers are not changed yet. Going back ends the handover; no answer changes."
		if removed {
			b.Text += " The DS was removed: publish it again afterwards (beacon ds publish " + name.Unicode() + ")."
		}
	case len(p.course.Old) == 0:
		b.Command, b.Text = "", "The domain had no nameservers before: there are none to go back to."
	case p.OldAccount != nil && !old:
		b.Command, b.Text = "", "The old zone at "+p.from+" is removed. Move the domain to another account instead: beacon handover begin."
	case p.from == "":
		b.Possible, b.Text = true, "Going back is a handover of its own, to "+from+". They are not managed here: whether they still answer the same is compared first."
	default:
		b.Possible, b.Text = true, "Going back is a handover of its own, to "+from+": the old zone is synced, then the nameservers are changed back."
	}
	if b.Possible && asked && !p.course.KeepOld {
		for _, st := range p.last.Stations {
			if slices.Contains(st.Do, handover.DoRetire) {
				b.Until = st.At
			}
		}
	}
	return b, nil
}
