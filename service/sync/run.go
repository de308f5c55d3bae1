package sync

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"beacon/clock"
	"beacon/core/change"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/outcall"
	"beacon/service/accounts"
	"beacon/service/acts"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// compareScope compares what a sync is about, and remembers which reports it took into account.
func (s *Syncs) compareScope(ctx context.Context, run *syncRun) (comparison, error) {
	if run.sync.Scope == store.ScopeZone {
		c, err := s.compareWith(ctx, run.Place, run.sync.RevisionID, run.sync.Drift, true)
		run.hosts, run.unanswered = c.owners.Hosts, c.desired.Unanswered
		run.doubtWritten(&c)
		run.soaRefused(&c)
		return c, err
	}
	c, err := s.compareWith(ctx, run.Place, run.sync.RevisionID, diff.WantedWins, true)
	run.hosts, run.unanswered = c.owners.Hosts, c.desired.Unanswered
	run.doubtWritten(&c)
	if !c.keepsOthers {
		c.doubts = slices.DeleteFunc(c.doubts, func(d diff.Doubt) bool { return !c.desired.Owned[d.Key] })
	}
	return c, err
}

// guards are those that speak against a change list. A reported address passes none of them: it replaces an address by
// another, and is to arrive while nobody looks.
func (s *Syncs) guards(run *syncRun, steps change.List, live record.Contents) []finding.Finding {
	if run.sync.Scope == store.ScopeHosts || run.made { // nobody is led to a new zone yet
		return nil
	}
	return diff.Guards(steps, live, watched(run.Zone, run.hosts, run.unanswered))
}

// makeWay ends this turn of a sync of a whole zone where a sync of its hosts waits. It goes on after that one, from what
// is live then; at least one request is made in each turn.
func (s *Syncs) makeWay(ctx context.Context, run *syncRun) error {
	if run.sync.Scope == store.ScopeHosts {
		return nil
	}
	var other uint64
	err := s.store.Look(ctx, func(tx *store.Tx) (err error) { other, err = tx.HostsWaiting(run.Placement.ID); return err })
	if err != nil || other == 0 {
		return err
	}
	if err := run.closing(); err != nil {
		return err
	}
	if err := s.store.Tx(ctx, func(tx *store.Tx) error {
		if err := run.hold(tx); err != nil {
			return err
		}
		return tx.MakeWay(run.sync, other)
	}); err != nil {
		return err
	}
	return jobs.Later{At: s.store.Now().Add(turn), MadeWay: true}
}

// syncRun is one sync while it is worked on.
type syncRun struct {
	Place
	job        store.Job
	sync       store.Sync
	hosts      []store.Host          // as of the last comparison
	unanswered []dnsname.Name        // of the ALIAS records, as of the last comparison
	fresh      bool                  // no change list has been agreed to yet: guards and the expected list are still to be looked at
	refusals   int                   // of what was accepted first, and requests that broke off with nothing done, since the last confirmed one
	made       bool                  // the zone was made at the provider by this run
	applied    change.List           // what this run has confirmed
	closing    func() error          // records the outcome of the last request; it must be called before anything else is decided
	soaLost    bool                  // the SOA record was written, and was not as it should be afterwards
	broken     map[dnsname.Name]bool // names that a broken-off request was about
	quick      bool                  // it was done by reading some names only
}

// locks are what a sync keeps others from.
func (r *syncRun) locks() []string { return []string{acts.PlacementLock(r.Placement.ID)} }

// hold confirms that the sync has its lease and its lock, and keeps it so until the transaction ends.
func (r *syncRun) hold(tx *store.Tx) error { return acts.Hold(tx, r.job, r.locks()...) }

// errBlocked ends a sync because a user has to decide something.
type errBlocked struct {
	message  string
	findings []finding.Finding
}

func (e errBlocked) Error() string { return e.message }

// turn is how long a sync that makes way, or finds another in its place, waits before it asks for its turn, real time.
const turn = 100 * time.Millisecond

// mostUnshown is in how many rounds a confirmed write may not show before the sync is blocked.
const mostUnshown = 2

// mostRounds bounds how often a sync reads the live state and decides again.
const mostRounds = 12

// RunSync does a sync, or the rest of one that was broken off. Lease and lock are taken first; what is done next is decided by what is
// read under them.
func (s *Syncs) RunSync(ctx context.Context, job store.Job) error {
	run := &syncRun{job: job, broken: map[dnsname.Name]bool{}}
	free, other, err := s.begin(ctx, run)
	switch {
	case store.IsMissing(err): // its placement was removed, and it with that
		return nil
	case err != nil && run.sync.ID != 0 && (outcall.Passing(err) || errors.Is(err, acts.ErrHeld)):
		return s.waitOut(ctx, run, err)
	case err != nil || run.sync.State.Ended():
		return err
	case !free || other != 0:
		return jobs.Later{At: s.store.Now().Add(turn), MadeWay: true}
	}
	last, err := s.syncRounds(ctx, run)
	var held errBlocked
	var failed *outcall.Error
	var wrong *wire.Problem
	var later jobs.Later
	switch {
	case err == nil:
		return s.syncDone(ctx, run, last)
	case errors.As(err, &later) || errors.Is(err, store.ErrLeaseLost) || ctx.Err() != nil:
		return err
	case errors.As(err, &held):
		return s.endSync(ctx, run, store.SyncBlocked, held.message, held.findings)
	case errors.As(err, &failed) && !outcall.Passing(failed):
		return s.endSync(ctx, run, store.SyncFailed, logbook.Explain(failed).Error(), nil)
	case errors.As(err, &wrong) && !logbook.Passing(err):
		return s.endSync(ctx, run, store.SyncFailed, wrong.Message, nil)
	}
	return s.waitOut(ctx, run, err)
}

// begin takes the locks of a sync, reads it, and marks it as running. It is not free where another job has the lock, and another sync goes
// first where other is not zero.
func (s *Syncs) begin(ctx context.Context, run *syncRun) (free bool, other uint64, err error) {
	err = s.store.Tx(ctx, func(tx *store.Tx) (err error) {
		if run.sync, err = tx.SyncByID(run.job.Subject); err != nil {
			return err
		}
		run.Placement.ID = run.sync.PlacementID
		if free, err = acts.Lock(tx, run.job, run.locks()...); err != nil || !free {
			return err
		}
		if run.sync, err = tx.SyncByID(run.job.Subject); err != nil || run.sync.State.Ended() {
			return err
		}
		if run.Placement, err = zones.PlacementByID(tx, run.sync.PlacementID); err != nil {
			return err
		}
		if run.Zone, err = zones.ByID(tx, run.Placement.ZoneID); err != nil {
			return err
		}
		if run.Account, err = accounts.ByID(tx, run.Placement.AccountID); err != nil {
			return err
		}
		run.fresh = run.sync.Total == 0
		if err := acts.CheckHold(tx, run.locks()...); err != nil {
			return err
		}
		if err := accounts.Away(tx, run.Account); err != nil {
			return err
		}
		other, err = tx.BeginSync(run.sync)
		return err
	})
	return free, other, err
}

// waitOut keeps that trouble that passes holds a sync up, and gives it back for a while.
func (s *Syncs) waitOut(ctx context.Context, run *syncRun, problem error) error {
	var next time.Time
	err := s.store.Tx(ctx, func(tx *store.Tx) (err error) {
		if err := jobs.Hold(tx, run.job); err != nil {
			return err
		}
		if next, err = accounts.WaitOut(tx, run.Account, problem, jobs.Backoff(run.job.Attempts), s.store.Now()); err != nil {
			return err
		}
		if errors.Is(problem, acts.ErrHeld) {
			next = acts.HeldUntil(s.store.Now())
		}
		if run.sync.TroubleSince == nil {
			if err := logbook.Log(tx, run.sync.RequestedBy, "sync.retrying", run.Zone.Name().String(),
				fmt.Sprintf("sync %d at %s: %s", run.sync.ID, run.Account.Name, problem)); err != nil {
				return err
			}
		}
		return tx.RetrySync(run.sync.ID, problem.Error(), next)
	})
	if err != nil {
		return err
	}
	return jobs.Later{At: next}
}

func (s *Syncs) endSync(ctx context.Context, run *syncRun, state store.SyncState, message string, found []finding.Finding) error {
	return s.endSyncWith(ctx, run, state, message, found, func(*store.Tx) error { return nil })
}

// endSyncWith ends a sync together with what it showed.
func (s *Syncs) endSyncWith(ctx context.Context, run *syncRun, state store.SyncState, message string, found []finding.Finding, also func(*store.Tx) error) error {
	s.ended.WithLabelValues(string(state)).Inc()
	return s.store.Tx(ctx, func(tx *store.Tx) error {
		if err := run.hold(tx); err != nil {
			return err
		}
		if err := also(tx); err != nil {
			return err
		}
		if err := tx.EndSync(run.sync, state, message, found); err != nil {
			return err
		}
		if err := jobs.Finish(tx, run.job); err != nil {
			return err
		}
		return logbook.Log(tx, run.sync.RequestedBy, "sync."+string(state), run.Zone.Name().String(), fmt.Sprintf("sync %d at %s: %s", run.sync.ID, run.Account.Name, message))
	})
}

// syncRounds reads, decides and writes until live is as wanted, and gives the comparison that says so. A sync of hosts
// ends with the first round that wrote everything: what was reported meanwhile has a sync of its own.
func (s *Syncs) syncRounds(ctx context.Context, run *syncRun) (c comparison, err error) {
	if err := s.connect(ctx, &run.Place); err != nil {
		return c, err
	}
	if err := s.ensureZone(ctx, run); err != nil {
		return c, err
	}
	if err := s.recover(ctx, run); err != nil {
		return c, err
	}
	if c, run.quick, err = s.quickly(ctx, run); err != nil || run.quick {
		return c, err
	}
	written, unshown := false, 0
	for range mostRounds {
		if c, err = s.compareSurely(ctx, run); err != nil {
			return c, err
		}
		if keys := diff.Unshown(run.applied, c.sent, c.seen); len(keys) > 0 {
			if unshown++; unshown == mostUnshown {
				f := diff.NotShown(run.Zone.Name(), run.Account.Name, keys)
				return c, errBlocked{f.Message, []finding.Finding{f}}
			}
			if err := clock.Pause(ctx, max(outcall.Backoff(unshown), run.Caps.ReadLag)); err != nil {
				return c, err
			}
			continue
		}
		if err := s.remember(ctx, run, c.result); err != nil {
			return c, err
		}
		if written && run.sync.Scope == store.ScopeHosts {
			return c, nil
		}
		if err := s.decide(ctx, run, c); err != nil || len(c.result.Steps) == 0 {
			return c, err
		}
		if written, err = s.sendAll(ctx, run, run.pack(c), c); err != nil {
			return c, err
		}
	}
	return c, errBlocked{fmt.Sprintf("%s is not as it should be after %d rounds of writing. Another user or program may be writing to it. Requests to the provider were sent; see beacon sync --follow %d.", run.Zone.Name().Unicode(), mostRounds, run.sync.ID), nil}
}

// compareSurely compares until the read can be believed, or a user said that it is to be believed.
func (s *Syncs) compareSurely(ctx context.Context, run *syncRun) (c comparison, err error) {
	c, err = s.believe(ctx, &run.Place, syncPatience, func() (comparison, error) { return s.compareScope(ctx, run) })
	var unconfirmed errUnconfirmed
	if errors.As(err, &unconfirmed) {
		if run.sync.Scope == store.ScopeHosts { // nobody is asked about a reported address: it waits until the read can be believed
			return c, unconfirmed
		}
		if !slices.Contains(run.sync.Guards(), diff.GuardUnconfirmed) {
			return c, errBlocked{unconfirmed.finding.Message, []finding.Finding{unconfirmed.finding}}
		}
		s.confirmed.Set(run.Placement.ID, writtenAt(run.Placement), c.doubts, s.store.Now())
		err = s.believed(ctx, run.Place, c)
	}
	if err == nil {
		err = s.looked(ctx, run.Place, c)
	}
	if run.sync.Scope == store.ScopeHosts {
		c.result = c.result.Only(func(k record.Key) bool { return c.desired.Owned[k] })
	}
	return c, err
}

// remember keeps what the comparison shows about sets that need nothing: they are there though not noted, or gone.
func (s *Syncs) remember(ctx context.Context, run *syncRun, r diff.Result) error {
	if len(r.Arrived) == 0 && len(r.Forgotten) == 0 {
		return nil
	}
	return s.store.Tx(ctx, func(tx *store.Tx) error {
		if err := run.hold(tx); err != nil {
			return err
		}
		if err := tx.ForgetPlaced(run.Placement.ID, r.Forgotten); err != nil {
			return err
		}
		sets := make([]store.PlacedSet, len(r.Arrived))
		for i, set := range r.Arrived {
			sets[i] = store.PlacedSet{Sent: set, Read: set}
		}
		return tx.SetPlaced(run.Placement.ID, sets)
	})
}

// decide holds the sync where a user has to say something. What was agreed to at the start stands for the rest of
// the same sync, conflicts excepted: they can arise at any time.
func (s *Syncs) decide(ctx context.Context, run *syncRun, c comparison) error {
	steps := c.result.Steps
	if len(c.result.Conflicts) > 0 {
		return errBlocked{wording.Counted(len(c.result.Conflicts), "record set") + " changed here and at the provider; nothing more was written.", diff.ConflictFindings(c.result.Conflicts)}
	}
	if !run.fresh || len(steps) == 0 {
		return nil
	}
	if run.sync.Expected != "" && run.sync.Expected != steps.Digest() && !(run.made && run.sync.Expected == c.again().Digest()) {
		return errBlocked{"The change list is not the one that was shown: records have changed since then. Nothing was written. Look again: beacon diff", nil}
	}
	var speaking []finding.Finding
	for _, g := range s.guards(run, steps, c.live) {
		if !slices.Contains(run.sync.Guards(), g.Code) {
			speaking = append(speaking, g)
		}
	}
	if len(speaking) > 0 {
		return errBlocked{"A guard stopped this change; nothing was written.", speaking}
	}
	run.fresh = false
	if run.sync.Scope == store.ScopeHosts { // it is noted with the first request
		run.sync.Total = len(steps)
		return nil
	}
	return s.store.Tx(ctx, func(tx *store.Tx) error {
		return tx.UpdateSync(run.sync.ID, map[string]any{"total": len(steps)})
	})
}

// syncDone keeps how the provider gives back what was written, waits until the zone's nameservers serve it, and ends
// the sync. c is the last comparison.
func (s *Syncs) syncDone(ctx context.Context, run *syncRun, c comparison) error {
	found := []finding.Finding{}
	if run.sync.Scope == store.ScopeZone {
		s.inSync.note(run.Place, c)
	}
	if n := len(c.result.Drift); n > 0 {
		found = append(found, finding.Finding{Code: "drift-not-reverted", Severity: finding.Notice, Subject: run.Zone.Name().String(),
			Message: wording.Counted(n, "record set") + " changed at the provider since we placed them; left as they are.",
			Remedy:  "Look at them with beacon diff; put them back with beacon sync --revert."})
	}
	found = append(found, c.notes...)
	message := "Nothing had to be changed."
	awaited, at, err := s.awaitedHosts(ctx, run, c)
	if err != nil {
		return err
	}
	seen := func(*store.Tx) error { return nil }
	if len(run.applied)+len(awaited) > 0 {
		visible, problems := s.served.Wait(ctx, at, awaitedSteps(run, awaited, c))
		found = append(found, problems...)
		if visible >= 0 {
			ms := visible.Milliseconds()
			message = fmt.Sprintf("Every nameserver served it %d ms after the last write.", ms)
			seen = func(tx *store.Tx) error {
				run.sync.VisibleMS = &ms
				return s.observer.Visible(tx, run.Placement.ID, run.Account.Name, awaited, run.applied)
			}
		} else {
			message = "Written; not seen at every nameserver yet."
			seen = func(tx *store.Tx) error { return s.observer.Unseen(tx, run.Placement.ID, awaited) }
		}
	} else if run.sync.Requests > 0 {
		message = "Written."
	}
	return s.endSyncWith(ctx, run, store.SyncDone, message, found, func(tx *store.Tx) error { return errors.Join(noteForms(tx, run, c), seen(tx)) })
}

// noteForms keeps how the provider gives back what was written to it.
func noteForms(tx *store.Tx, run *syncRun, c comparison) error {
	read, asSent := diff.Forms(c.placed, c.live)
	if len(read) > 0 && asSent && !run.quick { // as almost always
		return tx.ReadAsSent(run.Placement.ID)
	}
	return tx.SetPlaced(run.Placement.ID, read)
}
