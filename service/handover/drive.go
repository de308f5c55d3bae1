package handover

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/handover"
	"beacon/service/delegate"
	"beacon/service/jobs"
	"beacon/service/later"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// whileActing is how long a handover waits until it looks whether an act of it has ended, real time.
const whileActing = 250 * time.Millisecond

// followPublish is how long a registry is assumed to take in what is foreseen while a handover runs, simulated time.
const followPublish = usualPublish

// Run looks at a domain that moves, decides what comes next, and begins what users allowed. It is the handler of its jobs.
func (s *Handover) Run(ctx context.Context, job store.Job) error {
	var p plan
	var acts history
	err := s.logbook.Look(ctx, func(tx *store.Tx) error {
		row, err := tx.HandoverByID(job.Subject)
		if err != nil || row.Ended() {
			p.Handover = row
			return err
		}
		if p, err = s.read(tx, row); err != nil {
			return err
		}
		acts, err = begunBy(tx, p)
		return err
	})
	switch {
	case isMissing(err) || err == nil && p.Ended():
		return nil
	case err != nil:
		return err
	case acts.busy:
		return jobs.Later{At: s.logbook.Now().Add(whileActing), MadeWay: true}
	}
	fresh := p.domain.CheckedAt != nil && p.DecidedAt != nil && p.domain.CheckedAt.After(*p.DecidedAt)
	if now := s.world.Now(); !fresh && !p.spoken() && p.NextAt != nil && now.Before(*p.NextAt) {
		return jobs.Later{World: *p.NextAt, Worked: true}
	}
	return s.decide(ctx, p, acts, fresh)
}

// decide looks, decides, keeps the decision, and begins the acts that follow from it.
func (s *Handover) decide(ctx context.Context, p plan, acts history, fresh bool) error {
	var out decided
	if len(p.course.New) == 0 { // the provider assigns them when the zone is made
		return s.awaitAssigned(ctx, p, acts)
	}
	evident, looked, err := s.see(ctx, p, fresh)
	if err != nil {
		return s.cannotSee(ctx, p, err)
	}
	course := p.agreed()
	if course.OldTells, err = s.tells(ctx, p.zone.Name(), p.from); err != nil {
		return s.cannotSee(ctx, p, err)
	}
	out.Decision = handover.Decide(course, p.evidence(), evident)
	hands := handover.Hands{Allowed: p.allowed()}
	if looked.ByHand {
		hands.ByHand = []handover.Do{handover.DoDelegate, handover.DoRemoveDS, handover.DoAddDS}
	}
	start, ask := out.Decision.Start(hands)
	p.seen, p.tells, p.last.Compared = evident, course.OldTells, looked.Compared
	out.Heard = p.heard()
	out.Asked, out.Differences, out.Compared, out.Digest = ask, looked.Differences, looked.Compared, looked.Digest
	out.Place, out.ByHand, out.OldPlaced, out.OldTells = looked.Place, looked.ByHand, evident.OldPlaced, course.OldTells || handover.OldTells(course, evident)
	if course.Gap {
		out.Gap = handover.GapText(course, evident)
	}
	if out.Hanging = p.last.Hanging; out.Phase == handover.Preparing || out.Phase == handover.Insecure || out.Phase == handover.Ready {
		if out.Hanging, err = s.hanging(ctx, looked, course); err != nil {
			return s.cannotSee(ctx, p, err)
		}
	}
	calendar, err := s.calendarOf(course)
	if err != nil {
		return s.cannotSee(ctx, p, err)
	}
	out.Stations = handover.Forecast(course, evident, followPublish, calendar)
	if !ends(stationsOf(p.Planned)) { // the first that leads to the end is the plan
		p.Planned = jsonText(out.Stations)
	}
	start, held := calendar.Hold(start, looked.Sweep.Ended)
	var mates handover.Batch
	if err := s.logbook.Tx(ctx, func(tx *store.Tx) (err error) { mates, err = batch(tx, p); return err }); err != nil {
		return err
	}
	start, queued := mates.Hold(start)
	out.Wait = append(append(out.Wait, held...), queued...)
	start, out.Trouble = acts.due(start, s.logbook.Now())
	if p.State == store.HandoverPaused {
		start = nil
	}
	at := looked.Sweep.Ended
	next := s.next(out, at, len(held) > 0 && len(start) == 0)
	again := acts.again(out.Do)
	if len(start) > 0 || !again.IsZero() && p.State != store.HandoverPaused {
		next = at
	}
	if ask != nil && ask.Kind == handover.AskByHand {
		if err := s.logbook.Tx(ctx, func(tx *store.Tx) error { return s.ground(tx, p, ask.Do) }); err != nil {
			return err
		}
	}
	p.DecidedAt, p.NextAt = &at, &next
	if out.Phase.Left() {
		if err := s.logbook.Tx(ctx, func(tx *store.Tx) error { return later.Propose(tx, p.ZoneID) }); err != nil {
			return err
		}
	}
	if err := s.keepDecision(ctx, p, out); err != nil || out.Phase == handover.Done {
		return err
	}
	for _, do := range start {
		if err := s.start(ctx, p, do); err != nil {
			return s.notStarted(ctx, p, do, err)
		}
	}
	if len(start) > 0 {
		return jobs.Later{At: s.logbook.Now().Add(whileActing), MadeWay: true}
	}
	if !again.IsZero() && p.State != store.HandoverPaused { // before the next check
		return jobs.Later{At: again, Worked: true}
	}
	return jobs.Later{World: next, Worked: true}
}

// see is the evidence for a decision. A check that was kept just before is not made again.
func (s *Handover) see(ctx context.Context, p plan, fresh bool) (e handover.Seen, looked delegate.Sight, err error) {
	name := p.zone.Name()
	if !fresh {
		if _, err := s.checks.Check(ctx, access.For(p.BegunBy), name); err != nil {
			return e, looked, err
		}
	}
	course := p.agreed()
	looked, err = s.delegations.Look(ctx, wire.DelegateRequest{Domain: name, Nameservers: asTyped(course.New), Agree: course.Agreed, Override: course.Override}, course.Old)
	if err != nil {
		return e, looked, logbook.Explain(err)
	}
	if e, err = s.evident(ctx, looked, course); err != nil {
		return e, looked, err
	}
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		if e.Behind, err = behindIn(tx, p); err != nil {
			return err
		}
		var old store.Placement
		old, e.OldPlaced, err = placementAt(tx, p.ZoneID, p.OldAccount)
		e.Lowered = lowered(old)
		if err == nil {
			var at store.Placement
			at, _, err = placementAt(tx, p.ZoneID, p.NewAccount)
			e.Lowered = e.Lowered || lowered(at)
		}
		return err
	})
	if !e.OldPlaced { // it went with its zone
		e.Behind = slices.DeleteFunc(e.Behind, func(account string) bool { return account == p.from })
	}
	return e, looked, err
}

// tells reports whether the apex NS set of a zone can be written at an account.
func (s *Handover) tells(ctx context.Context, name dnsname.Name, account string) (bool, error) {
	if account == "" {
		return false, nil
	}
	places, err := s.syncs.PlacesOf(ctx, name)
	return slices.ContainsFunc(places, func(at sync.Place) bool {
		return at.Account.Name == account && (at.Caps.ApexNS || !at.Caps.OwnsApex)
	}), err
}

// next is when a handover is looked at again at the latest: when the first of its waits ends, or at the pace of checks. Where all that it would do is held by the calendar,
// there is nothing but time.
func (s *Handover) next(d decided, now time.Time, held bool) time.Time {
	next := now.Add(max(s.checks.Pace(), time.Second))
	first := time.Time{}
	for _, w := range d.Wait {
		if w.Until.After(now) && (first.IsZero() || w.Until.Before(first)) {
			first = w.Until
		}
	}
	if (len(d.Do) == 0 || held) && d.Asked == nil && len(d.Closed) == 0 && !first.IsZero() { // nothing but time
		return first
	}
	if !first.IsZero() && first.Before(next) {
		return first
	}
	return next
}

// keepDecision stores what was decided, with the marks that follow from it.
func (s *Handover) keepDecision(ctx context.Context, p plan, out decided) error {
	return s.logbook.Tx(ctx, func(tx *store.Tx) error {
		row, err := tx.LockHandover(p.ID)
		if err != nil || row.Ended() {
			return err
		}
		for _, m := range out.Marks {
			kept := evidenceOf(p.ID, m)
			if err := tx.AddMark(&kept); err != nil {
				return err
			}
		}
		was, asked := row, ""
		if out.Asked != nil {
			asked = string(out.Asked.Kind)
		}
		p.last = out
		if row.Asks = p.asksBriefly(); row.Asks != was.Asks {
			if err := s.notify.TellLater(tx, p.domain.ID); err != nil {
				return err
			}
		}
		row.Phase, row.Asked, row.NextAt, row.DecidedAt, row.Decided, row.Planned = string(out.Phase), asked, p.NextAt, p.DecidedAt, jsonText(out), p.Planned
		row.Course, row.Digest = p.Course, p.Digest
		if out.Phase == handover.Done {
			now := s.world.Now()
			row.State, row.EndedAt, row.NextAt = store.HandoverDone, &now, nil
			if err := s.mark(tx, row, store.HandoverMark{Kind: markEnded, About: string(wire.HandoverDone)}); err != nil {
				return err
			}
			if err := zones.Unlower(tx, p.ZoneID); err != nil {
				return err
			}
			if err := logbook.Log(tx, access.Service.Name, "handover.done", p.zone.Name().String(), jobText(p)); err != nil {
				return err
			}
		} else if was.Phase != row.Phase && was.Decided != "" {
			if err := logbook.Log(tx, access.Service.Name, "handover.phase", p.zone.Name().String(), jobText(p)+": "+row.Phase); err != nil {
				return err
			}
		}
		return tx.SaveHandover(row)
	})
}

// cannotSee keeps that a domain could not be looked at. It is tried again at the pace of checks.
func (s *Handover) cannotSee(ctx context.Context, p plan, problem error) error {
	if ctx.Err() != nil {
		return problem
	}
	next := s.world.Now().Add(max(s.checks.Pace(), time.Second))
	err := s.logbook.Tx(ctx, func(tx *store.Tx) error {
		row, err := tx.LockHandover(p.ID)
		if err != nil || row.Ended() {
			return err
		}
		last := p.last
		last.Trouble, last.Heard = problem.Error(), p.heard()
		row.NextAt, row.Decided = &next, jsonText(last)
		return tx.SaveHandover(row)
	})
	if err != nil {
		return err
	}
	return jobs.Later{World: next, Worked: true}
}

// awaitAssigned has the zone made at the new account, until its nameservers are known.
func (s *Handover) awaitAssigned(ctx context.Context, p plan, acts history) error {
	var names []dnsname.Name
	err := s.logbook.Look(ctx, func(tx *store.Tx) error {
		at, _, err := placementAt(tx, p.ZoneID, p.NewAccount)
		names = dnsname.SortSet(at.Names())
		return err
	})
	if err != nil {
		return err
	}
	if len(names) > 0 {
		p.course.New = names
		setCourse(&p.Handover, p.course)
		return s.decide(ctx, p, acts, false)
	}
	out := decided{Heard: p.heard(), Decision: handover.Decision{Phase: handover.Preparing, Do: []handover.Do{handover.DoSync}, Wait: []handover.Wait{{For: "the new provider assigns nameservers to the zone"}}}}
	var start []handover.Do
	if start, out.Trouble = acts.due(out.Do, s.logbook.Now()); p.State == store.HandoverPaused {
		start = nil
	}
	at := s.world.Now()
	next := at.Add(max(s.checks.Pace(), time.Second))
	p.DecidedAt, p.NextAt = &at, &next
	if len(start) > 0 {
		p.NextAt = &at
	}
	if err := s.keepDecision(ctx, p, out); err != nil {
		return err
	}
	if len(start) == 0 {
		return jobs.Later{World: next, Worked: true}
	}
	if err := s.start(ctx, p, handover.DoSync); err != nil {
		return s.notStarted(ctx, p, handover.DoSync, err)
	}
	return jobs.Later{At: s.logbook.Now().Add(whileActing), MadeWay: true}
}

func jsonText(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // our own types only
	}
	return string(text)
}

func asTyped(set []dnsname.Name) (list []string) {
	for _, n := range set {
		list = append(list, n.String())
	}
	return list
}
