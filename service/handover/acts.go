package handover

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/core/diff"
	"beacon/core/handover"
	"beacon/service/acts"
	"beacon/service/jobs"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// begun is an act that a handover began.
type begun struct {
	at      time.Time // real time
	id      uint64    // of the act; 0 for a sync
	ended   bool
	done    bool
	stopped bool // a user cancelled it
	message string
	fails   int // how often in a row it did not come about
}

// history is what became of the acts that a handover began: the last of each kind.
type history struct {
	last map[handover.Do]begun
	busy bool // one has not ended
}

// mostTries is how many acts in a row are looked at: the pause between two does not grow any more.
const mostTries = 8

// begunBy returns what became of the acts that a handover began.
func begunBy(tx *store.Tx, p plan) (history, error) {
	h := history{last: map[handover.Do]begun{}}
	tried := map[handover.Do]int{}
	for _, m := range slices.Backward(p.marks) {
		do := handover.Do(m.About)
		switch {
		case m.Kind == markRetry: // what failed before is over
			tried[do] = mostTries
		case m.Kind == markBegun && tried[do] < mostTries:
			b, err := became(tx, m)
			if err != nil {
				return h, err
			}
			h.busy = h.busy || !b.ended
			last, known := h.last[do]
			if !known {
				last = b
			}
			if tried[do]++; !b.ended || b.done {
				tried[do] = mostTries
			} else {
				last.fails++
			}
			h.last[do] = last
		}
	}
	return h, nil
}

// became returns what became of an act that a mark is of.
func became(tx *store.Tx, m store.HandoverMark) (b begun, err error) {
	b.at = m.CreatedAt
	switch {
	case m.ActID != nil:
		act, err := acts.ByID(tx, *m.ActID)
		if store.IsMissing(err) { // its retention is over
			break
		}
		b.id, b.ended, b.done, b.message = act.ID, act.State.Ended(), act.State == store.ActDone, fmt.Sprintf("Act %d: %s", act.ID, act.Message)
		b.stopped = act.State == store.ActCancelled
		return b, err
	case m.SyncID != nil:
		run, err := sync.ByID(tx, *m.SyncID)
		if store.IsMissing(err) {
			break
		}
		b.ended, b.done, b.message = run.State.Ended(), run.State == store.SyncDone, fmt.Sprintf("Sync %d: %s", run.ID, run.Message)
		b.stopped = run.State == store.SyncCancelled
		return b, err
	default: // nothing was begun: why is in the detail
		b.ended, b.message = true, m.Detail
		return b, nil
	}
	b.ended, b.done = true, true
	return b, nil
}

// between returns how long to wait until the same act is begun again, real time.
func (b begun) between() time.Duration {
	if b.fails == 0 {
		return 2 * time.Second
	}
	return min(15*time.Second<<min(b.fails-1, mostTries), 30*time.Minute)
}

// due returns those of some acts that may be begun now, and why the last try of one that may not did not come about.
func (h history) due(list []handover.Do, now time.Time) (start []handover.Do, trouble string) {
	for _, do := range list {
		b := h.last[do]
		if b.fails > 0 {
			trouble = b.message
		}
		if b.stopped {
			trouble += " It was cancelled, and is begun again once you say so."
			continue
		}
		if b.at.IsZero() || !now.Before(b.at.Add(b.between())) {
			start = append(start, do)
		}
	}
	return start, trouble
}

// again returns when the first of some acts that did not come about may be begun again, real time; zero where none waits for that.
func (h history) again(list []handover.Do) (at time.Time) {
	for _, do := range list {
		if b := h.last[do]; b.fails > 0 && !b.stopped {
			if next := b.at.Add(b.between()); at.IsZero() || next.Before(at) {
				at = next
			}
		}
	}
	return at
}

// start begins an act of a handover, in the name of who began that. The act is stored together with a mark of it.
func (s *Handover) start(ctx context.Context, p plan, do handover.Do) (err error) {
	by := access.For(p.BegunBy)
	name, why := p.zone.Name(), fmt.Sprintf("handover %d", p.ID)
	within := func(tx *store.Tx, act store.Act) error {
		mates, err := batch(tx, p) // before its own row: all lock in the same order
		if err != nil {
			return err
		}
		if err := s.stillOpen(tx, p); err != nil {
			return err
		}
		if _, queued := mates.Hold([]handover.Do{do}); len(queued) > 0 { // another one was faster
			return errEnded
		}
		if err := s.mark(tx, p.Handover, store.HandoverMark{Kind: markBegun, About: string(do), ActID: &act.ID}); err != nil {
			return err
		}
		return s.ground(tx, p, do)
	}
	course := p.agreed()
	switch do {
	case handover.DoSync:
		return s.startSync(ctx, p, by, do)
	case handover.DoTellOld:
		return s.tellOld(ctx, p, by)
	case handover.DoLower, handover.DoRestore:
		return s.lower(ctx, p, by, do)
	case handover.DoDelegate:
		_, err = s.delegations.DelegateWithin(ctx, by, wire.DelegateRequest{Domain: name, Nameservers: asTyped(course.New), Agree: course.Agreed, Override: course.Override, Reason: why}, within)
	case handover.DoRemoveDS:
		_, err = s.delegations.ChangeDSWithin(ctx, by, wire.DSRequest{Domain: name, Remove: true, Reason: why}, within)
	case handover.DoAddDS:
		_, err = s.delegations.ChangeDSWithin(ctx, by, wire.DSRequest{Domain: name, Reason: why}, within)
	case handover.DoRetire:
		_, err = s.delegations.RetireWithin(ctx, by, wire.RetireRequest{Zone: name, Account: p.from, Reason: why}, within)
	default:
		return fmt.Errorf("no act %q is known", do)
	}
	return err
}

// ground keeps on what evidence an act is begun, or asked of a user: once, and again where it is another one.
func (s *Handover) ground(tx *store.Tx, p plan, do handover.Do) error {
	for _, m := range slices.Backward(p.marks) {
		if m.About != string(do) {
			continue
		}
		if m.Kind == markGrounds && p.last.ByHand {
			return nil
		}
		break
	}
	return s.mark(tx, p.Handover, store.HandoverMark{Kind: markGrounds, About: string(do), Detail: strings.Join(handover.Grounds(do, p.agreed(), p.evidence(), p.seen, p.last.Compared), "\n")})
}

// errEnded means that a handover was paused or ended while an act of it was about to be begun.
var errEnded = errors.New("the handover does not go on")

func (s *Handover) stillOpen(tx *store.Tx, p plan) error {
	row, err := tx.LockHandover(p.ID)
	if err == nil && row.State != store.HandoverOpen {
		return errEnded
	}
	return err
}

// startSync begins syncs of the sides that are behind.
func (s *Handover) startSync(ctx context.Context, p plan, by access.Caller, do handover.Do) error {
	err := s.logbook.Tx(ctx, func(tx *store.Tx) error { return s.syncIn(tx, p, by, do) })
	s.jobs.Wake(store.JobSync)
	return err
}

func (s *Handover) syncIn(tx *store.Tx, p plan, by access.Caller, do handover.Do) error {
	if err := s.stillOpen(tx, p); err != nil {
		return err
	}
	behind, err := behindIn(tx, p)
	if err != nil {
		return err
	}
	for _, account := range behind {
		r := wire.SyncRequest{Zone: p.zone.Name(), Account: account}
		id := p.NewAccount
		if account == p.from {
			id = p.OldAccount
		}
		at, _, err := placementAt(tx, p.ZoneID, id)
		if err != nil {
			return err
		}
		if len(at.ToldSet()) > 0 {
			r.Allow = []string{diff.GuardApex}
		}
		list, err := s.syncs.Start(by, tx, r)
		if err != nil {
			return err
		}
		for _, one := range list {
			if err := s.mark(tx, p.Handover, store.HandoverMark{Kind: markBegun, About: string(do), SyncID: &one.ID, Detail: account}); err != nil {
				return err
			}
		}
	}
	return nil
}

// behindIn returns the accounts of both sides that are not known to hold the desired records: what changed there by other ways shows in the first sync.
func behindIn(tx *store.Tx, p plan) (list []string, err error) {
	unsynced, err := sync.Unsynced(tx, p.ZoneID)
	for _, account := range []string{p.from, p.to} {
		first := !slices.ContainsFunc(p.marks, func(m store.HandoverMark) bool { return m.SyncID != nil && m.Detail == account })
		if account != "" && (first || slices.Contains(unsynced, account)) {
			list = append(list, account)
		}
	}
	return list, err
}

// tellOld has the old zone name the new nameservers. Where it is to do so already, its servers are behind: nothing is begun.
func (s *Handover) tellOld(ctx context.Context, p plan, by access.Caller) error {
	err := s.logbook.Tx(ctx, func(tx *store.Tx) error {
		old, there, err := placementAt(tx, p.ZoneID, p.OldAccount)
		if err != nil || !there {
			return err
		}
		if !slices.Equal(old.ToldSet(), p.course.New) {
			if err := zones.Tell(tx, old.ID, p.course.New); err != nil {
				return err
			}
		}
		return s.syncIn(tx, p, by, handover.DoTellOld)
	})
	s.jobs.Wake(store.JobSync)
	return err
}

// placementAt returns the placement of a zone at an account; there is false where there is none.
func placementAt(tx *store.Tx, zoneID uint64, account *uint64) (at store.Placement, there bool, err error) {
	placements, err := zones.Placements(tx, zoneID)
	for _, p := range placements {
		if account != nil && p.AccountID == *account {
			return p, true, err
		}
	}
	return at, false, err
}

// notStarted keeps why an act could not be begun. It is tried again later.
func (s *Handover) notStarted(ctx context.Context, p plan, do handover.Do, problem error) error {
	var wrong *wire.Problem
	switch {
	case errors.Is(problem, errEnded):
		return jobs.Later{At: s.logbook.Now().Add(whileActing), MadeWay: true}
	case ctx.Err() != nil || !errors.As(problem, &wrong):
		return problem
	}
	err := s.logbook.Tx(ctx, func(tx *store.Tx) error {
		return s.mark(tx, p.Handover, store.HandoverMark{Kind: markBegun, About: string(do), Detail: wrong.Message})
	})
	if err != nil {
		return err
	}
	return jobs.Later{At: s.logbook.Now().Add(whileActing), MadeWay: true}
}

// isMissing reports whether what a problem says is that something does not exist.
func isMissing(err error) bool {
	var p *wire.Problem
	return errors.As(err, &p) && p.Kind == wire.NotFound
}

func jobText(p plan) string { return fmt.Sprintf("handover %d", p.ID) }
