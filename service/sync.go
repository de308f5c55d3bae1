package service

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"beacon/clock"
	"beacon/core/change"
	"beacon/core/delegation"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/outcall"
	"beacon/provider"
	"beacon/service/accounts"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// StartSync asks for a sync of each placement and returns; the work is done in the background. A placement whose last
// sync has not ended is in the way: two are never interleaved.
func (s *Service) StartSync(ctx context.Context, r wire.SyncRequest) (list []wire.SyncView, err error) {
	err = s.Logbook.Tx(ctx, func(tx *store.Tx) error {
		list = []wire.SyncView{}
		z, err := tx.LockZone(r.Zone)
		if err != nil {
			return err
		}
		if z.RevisionID == nil {
			return wire.Problemf(wire.InTheWay, "Zone %s has no contents yet. Import a zone file or define it first.", r.Zone)
		}
		placements, err := tx.Placements(z.ID)
		if err != nil {
			return err
		}
		for _, p := range placements {
			a, err := accounts.ByID(tx, p.AccountID)
			if err != nil {
				return err
			}
			if r.Account != "" && a.Name != r.Account {
				continue
			}
			running, err := tx.UnfinishedSync(p.ID)
			if err != nil {
				return err
			}
			if running.ID != 0 {
				return wire.Problemf(wire.InTheWay, "Sync %d of %s at %s is still %s. Wait for it (beacon sync --follow %d), then ask again.", running.ID, r.Zone, a.Name, running.State, running.ID)
			}
			n := store.Sync{PlacementID: p.ID, RevisionID: *z.RevisionID, Drift: driftPolicy(r.PutBack), Expected: r.Expect, RequestedBy: logbook.Actor(ctx)}
			if err := tx.AddSync(&n, r.Allow); err != nil {
				return err
			}
			if err := logbook.Log(tx, logbook.Actor(ctx), "sync.requested", r.Zone.String(), fmt.Sprintf("sync %d at %s", n.ID, a.Name)); err != nil {
				return err
			}
			list = append(list, *viewSync(n, r.Zone, a.Name))
		}
		if len(list) == 0 {
			return wire.Problemf(wire.InTheWay, "Zone %s is not placed at %s. Name the account in its definition: at: [ACCOUNT].", r.Zone, orAny(r.Account))
		}
		return nil
	})
	s.Jobs.Wake(store.JobSync)
	return list, err
}

func driftPolicy(putBack bool) diff.DriftPolicy {
	if putBack {
		return diff.PutBackDrift
	}
	return diff.LeaveDrift
}

func orAny(account string) string {
	if account == "" {
		return "any provider"
	}
	return account
}

// Sync shows one sync.
func (s *Service) Sync(ctx context.Context, id uint64) (v wire.SyncView, err error) {
	err = s.Logbook.Tx(ctx, func(tx *store.Tx) error {
		row, err := tx.SyncByID(id)
		if err != nil {
			return err
		}
		p, err := tx.PlacementByID(row.PlacementID)
		if err != nil {
			return err
		}
		z, err := tx.ZoneByID(p.ZoneID)
		if err != nil {
			return err
		}
		a, err := accounts.ByID(tx, p.AccountID)
		v = *viewSync(row, z.Name(), a.Name)
		return err
	})
	return v, err
}

// syncRun is one sync while it is worked on.
type syncRun struct {
	place
	job      store.Job
	sync     store.Sync
	hosts    []store.Host          // as of the last comparison
	fresh    bool                  // no change list has been agreed to yet: guards and the expected list are still to be looked at
	refusals int                   // of what was accepted first
	made     bool                  // the zone was made at the provider by this run
	applied  change.List           // what this run has confirmed
	broken   map[dnsname.Name]bool // names that a broken-off request was about
}

// errHeld ends a sync because a person has to decide something.
type errHeld struct {
	message  string
	findings []finding.Finding
}

func (e errHeld) Error() string { return e.message }

// turn is how long a sync that makes way, or finds another in its place, waits before it asks for its turn, wall time.
const turn = 100 * time.Millisecond

// mostRounds bounds how often a sync reads the live state and decides anew.
const mostRounds = 12

// runSync does a sync, or the rest of one that was broken off.
func (s *Service) runSync(ctx context.Context, job store.Job) error {
	run := &syncRun{job: job, broken: map[dnsname.Name]bool{}}
	var other uint64
	err := s.store.Tx(ctx, func(tx *store.Tx) (err error) {
		if run.sync, err = tx.SyncByID(job.Subject); err != nil || run.sync.State.Ended() {
			return err
		}
		if run.placement, err = tx.PlacementByID(run.sync.PlacementID); err != nil {
			return err
		}
		if run.zone, err = tx.ZoneByID(run.placement.ZoneID); err != nil {
			return err
		}
		if run.account, err = accounts.ByID(tx, run.placement.AccountID); err != nil {
			return err
		}
		run.fresh = run.sync.Total == 0
		other, err = tx.BeginSync(run.sync)
		return err
	})
	switch {
	case err != nil || run.sync.State.Ended():
		return err
	case other != 0:
		return jobs.Later{At: s.wall.Now().Add(turn), MadeWay: true}
	}
	last, err := s.syncRounds(ctx, run)
	var held errHeld
	var failed *outcall.Error
	var wrong *wire.Problem
	switch {
	case err == nil:
		return s.syncDone(ctx, run, last)
	case errors.As(err, &held):
		return s.endSync(ctx, run, store.SyncHeld, held.message, held.findings)
	case errors.As(err, &failed) && failed.Kind != outcall.Unavailable && failed.Kind != outcall.Limited:
		return s.endSync(ctx, run, store.SyncFailed, logbook.Explain(failed).Error(), nil)
	case errors.As(err, &wrong):
		return s.endSync(ctx, run, store.SyncFailed, wrong.Message, nil)
	}
	return err
}

func (s *Service) endSync(ctx context.Context, run *syncRun, state store.SyncState, message string, found []finding.Finding) error {
	s.metrics.syncs.WithLabelValues(string(state)).Inc()
	return s.store.Tx(ctx, func(tx *store.Tx) error {
		if err := jobs.Hold(tx, run.job); err != nil {
			return err
		}
		if err := tx.EndSync(run.sync.ID, state, message, found); err != nil {
			return err
		}
		if err := jobs.Finish(tx, run.job); err != nil {
			return err
		}
		return logbook.Log(tx, run.sync.RequestedBy, "sync."+string(state), run.zone.Name().String(), fmt.Sprintf("sync %d at %s: %s", run.sync.ID, run.account.Name, message))
	})
}

// gaveUpSync ends a sync whose job was given up.
func gaveUpSync(tx *store.Tx, job store.Job, reason error) error {
	return tx.EndSync(job.Subject, store.SyncFailed, "Given up after several attempts: "+reason.Error(), nil)
}

// syncRounds reads, decides and writes until live is as wanted, and gives the comparison that says so. A sync of hosts
// ends with the first round that wrote everything: what was reported meanwhile has a sync of its own.
func (s *Service) syncRounds(ctx context.Context, run *syncRun) (c comparison, err error) {
	if err := s.connect(ctx, &run.place); err != nil {
		return c, err
	}
	if err := s.ensureZone(ctx, run); err != nil {
		return c, err
	}
	if err := s.recover(ctx, run); err != nil {
		return c, err
	}
	written := false
	for range mostRounds {
		if c, err = s.compareSurely(ctx, run); err != nil {
			return c, err
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
	return c, errors.New("the provider's state does not become what was written to it")
}

// A read that denies what we wrote not long ago is made again, so many times at most: it may come from a copy of the
// provider's that is behind. Nothing is decided for such a read.
const (
	recently  = time.Minute
	mostDoubt = 4
)

// compareSurely compares, and does so again where what is read denies what was written shortly before.
func (s *Service) compareSurely(ctx context.Context, run *syncRun) (c comparison, err error) {
	for doubt := 1; ; doubt++ {
		if c, err = s.compareFor(ctx, run); err != nil {
			return c, err
		}
		denied := len(c.result.Drift) + len(c.result.Conflicts) + len(c.result.Forgotten)
		written := run.placement.WrittenAt
		if denied == 0 || doubt == mostDoubt || written == nil || s.wall.Now().Sub(*written) > recently {
			return c, nil
		}
		if err := clock.Pause(ctx, time.Duration(doubt)*50*time.Millisecond); err != nil {
			return c, err
		}
	}
}

// remember keeps what the comparison shows about sets that need nothing: they are there though not noted, or gone.
func (s *Service) remember(ctx context.Context, run *syncRun, r diff.Result) error {
	if len(r.Arrived) == 0 && len(r.Forgotten) == 0 {
		return nil
	}
	return s.store.Tx(ctx, func(tx *store.Tx) error {
		if err := jobs.Hold(tx, run.job); err != nil {
			return err
		}
		if err := tx.ForgetPlaced(run.placement.ID, r.Forgotten); err != nil {
			return err
		}
		sets := make([]store.PlacedSet, len(r.Arrived))
		for i, set := range r.Arrived {
			sets[i] = store.PlacedSet{Sent: set, Read: set}
		}
		return tx.SetPlaced(run.placement.ID, sets)
	})
}

// decide holds the sync where a person has to say something. What was agreed to at the start stands for the rest of
// the same sync, conflicts excepted: they can arise at any time.
func (s *Service) decide(ctx context.Context, run *syncRun, c comparison) error {
	steps := c.result.Steps
	if len(c.result.Conflicts) > 0 {
		return errHeld{wording.Counted(len(c.result.Conflicts), "record set") + " changed here and at the provider; nothing more was written.", conflictFindings(c.result.Conflicts)}
	}
	if !run.fresh || len(steps) == 0 {
		return nil
	}
	if run.sync.Expected != "" && run.sync.Expected != steps.Digest() {
		return errHeld{"The change list is not the one that was shown: something changed meanwhile. Look at it again (beacon diff); nothing was written.", nil}
	}
	var speaking []finding.Finding
	for _, g := range s.guards(run, steps, c.live) {
		if !slices.Contains(run.sync.Guards(), g.Code) {
			speaking = append(speaking, g)
		}
	}
	if len(speaking) > 0 {
		return errHeld{"A guard stopped this change; nothing was written.", speaking}
	}
	run.fresh = false
	return s.store.Tx(ctx, func(tx *store.Tx) error {
		return tx.UpdateSync(run.sync.ID, map[string]any{"total": len(steps)})
	})
}

// ensureZone finds or makes the zone at the provider. Making one is repeated by looking for it first, so that a broken
// off attempt leaves one zone and not two.
func (s *Service) ensureZone(ctx context.Context, run *syncRun) error {
	if run.placement.RemoteID != "" {
		return nil
	}
	name := run.zone.Name()
	zone, made, err := s.findOrMake(ctx, run.account.ID, run.driver, name)
	if err != nil {
		return err
	}
	run.made = made
	run.placement.RemoteID = zone.Ref.ID
	prefilled, err := s.prefilled(ctx, run)
	if err != nil {
		return err
	}
	return s.store.Tx(ctx, func(tx *store.Tx) error {
		if err := jobs.Hold(tx, run.job); err != nil {
			return err
		}
		if err := tx.SetRemote(run.placement.ID, zone.Ref.ID, zone.Nameservers); err != nil {
			return err
		}
		if err := s.wantPlacements(tx, run.zone.ID); err != nil {
			return err
		}
		if err := tx.SetPlaced(run.placement.ID, prefilled); err != nil {
			return err
		}
		return logbook.Log(tx, run.sync.RequestedBy, "zone.placed", name.String(), fmt.Sprintf("at %s, nameservers %v", run.account.Name, zone.Nameservers))
	})
}

// prefilled gives what a provider put into a zone that was just made for us. It counts as placed by us, so that it goes
// where it is not wanted.
func (s *Service) prefilled(ctx context.Context, run *syncRun) (sets []store.PlacedSet, err error) {
	if !run.made || !run.caps.Prefills {
		return nil, nil
	}
	run.wrote(s.wall.Now())
	state, err := s.readLive(ctx, &run.place)
	for set := range state.Contents.Sets() {
		sets = append(sets, store.PlacedSet{Sent: set, Read: set})
	}
	return sets, err
}

// wantPlacements makes the nameservers of all placements those that the domain shall be delegated to.
func (s *Service) wantPlacements(tx *store.Tx, zoneID uint64) error {
	placements, err := tx.Placements(zoneID)
	if err != nil {
		return err
	}
	var all []dnsname.Name
	for _, p := range placements {
		all = append(all, p.Names()...)
	}
	d, err := tx.EnsureDomain(zoneID)
	if err != nil {
		return err
	}
	return tx.SetWanted(d.ID, dnsname.SortSet(all))
}

// syncDone keeps how the provider gives back what was written, waits until the zone's nameservers serve it, and ends
// the sync. c is the last comparison.
func (s *Service) syncDone(ctx context.Context, run *syncRun, c comparison) error {
	found := []finding.Finding{}
	if err := s.noteForms(ctx, run, c); err != nil {
		return err
	}
	if n := len(c.result.Drift); n > 0 {
		found = append(found, finding.Finding{Code: "drift-left", Severity: finding.Notice, Subject: run.zone.Name().String(),
			Message: wording.Counted(n, "record set") + " changed at the provider since we placed them; left as they are.",
			Remedy:  "Look at them with beacon diff; put them back with beacon sync --put-back."})
	}
	found = append(found, c.notes...)
	message := "Nothing had to be changed."
	awaited, err := s.awaitedHosts(ctx, run, c)
	if err != nil {
		return err
	}
	if len(run.applied)+len(awaited) > 0 {
		visible, problems := s.waitServed(ctx, run, awaited, c)
		found = append(found, problems...)
		message = "Written; not seen at every nameserver yet."
		if visible >= 0 {
			ms := visible.Milliseconds()
			message = fmt.Sprintf("Every nameserver served it %d ms after the last write.", ms)
			if err := s.store.Tx(ctx, func(tx *store.Tx) error {
				if err := s.hostsVisible(tx, run, awaited); err != nil {
					return err
				}
				return tx.UpdateSync(run.sync.ID, map[string]any{"visible_ms": ms})
			}); err != nil {
				return err
			}
		}
	} else if run.sync.Requests > 0 {
		message = "Written."
	}
	return s.endSync(ctx, run, store.SyncDone, message, found)
}

// noteForms keeps how the provider gives back what was written to it.
func (s *Service) noteForms(ctx context.Context, run *syncRun, c comparison) error {
	var read []store.PlacedSet
	for _, p := range c.placed {
		if now := c.live.Get(p.Sent.Key()); p.Read.IsZero() && !now.IsZero() {
			read = append(read, store.PlacedSet{Sent: p.Sent, Read: now})
		}
	}
	if len(read) == 0 {
		return nil
	}
	return s.store.Tx(ctx, func(tx *store.Tx) error {
		if err := jobs.Hold(tx, run.job); err != nil {
			return err
		}
		return tx.SetPlaced(run.placement.ID, read)
	})
}

// mostAsked is how many of the changed sets each nameserver is asked for afterwards.
const mostAsked = 40

// waitServed asks the zone's nameservers until all of them give the new data. It gives how long that took since the
// last write, in wall time, or -1 where it did not happen in time, and why.
func (s *Service) waitServed(ctx context.Context, run *syncRun, awaited []awaitedHost, c comparison) (time.Duration, []finding.Finding) {
	start := time.Now()
	fail := func(message string) (time.Duration, []finding.Finding) {
		return -1, []finding.Finding{{Code: "not-served-yet", Severity: finding.Warning, Subject: run.zone.Name().String(), Message: message,
			Remedy: "The provider has taken the change. Check in a minute whether its nameservers serve it: beacon check."}}
	}
	ctx, cancel := context.WithTimeout(ctx, s.settings.Request)
	defer cancel()
	var p store.Placement
	if err := s.store.Tx(ctx, func(tx *store.Tx) (err error) { p, err = tx.PlacementByID(run.placement.ID); return err }); err != nil {
		return fail("The database did not answer: " + err.Error())
	}
	servers, problems := s.serversOf(ctx, run, p)
	if len(problems) > 0 {
		return fail(fmt.Sprintf("%s leads to no address: %s.", problems[0].Name, problems[0].Problem))
	}
	servers = slices.DeleteFunc(servers, func(server delegation.Server) bool { // of a machine without IPv6, nobody can want that
		at, err := netip.ParseAddrPort(server.Address)
		return err == nil && at.Addr().Is6() && !s.door.Leads(at)
	})
	steps := slices.Clone(run.applied[max(0, len(run.applied)-mostAsked):])
	for _, h := range awaited {
		for _, set := range h.sets {
			steps = append(steps, change.Step{Before: set, After: set})
		}
	}
	// Behind a relay the nameservers answer with something of the provider's own, whatever was written.
	steps = slices.DeleteFunc(steps, func(step change.Step) bool { return run.caps.Relayed(c.details[step.Key()].Extras) })
	for _, server := range servers {
		for _, step := range steps {
			for !served(s.sweeper.AskSet(ctx, server, step.Key()), step) {
				if clock.Pause(ctx, 50*time.Millisecond) != nil {
					return fail(fmt.Sprintf("%s (%s) does not serve %s as written yet.", strings.TrimSuffix(server.Name.String(), "."), server.Address, step.Key()))
				}
			}
		}
	}
	return time.Since(start), nil
}

// serversOf gives the nameservers of a placement with their addresses.
func (s *Service) serversOf(ctx context.Context, run *syncRun, p store.Placement) (list []delegation.Server, problems []delegation.NameProblem) {
	if known, ok := run.driver.(provider.Server); ok {
		for i, address := range known.Servers() {
			names := p.Names()
			list = append(list, delegation.Server{Name: names[min(i, len(names)-1)], Address: address})
		}
	}
	if len(list) > 0 {
		return list, nil
	}
	return s.sweeper.Servers(ctx, p.Names())
}

// served reports whether an answer is what the step leaves behind. A removed set need only not be the old one: a
// wildcard may answer in its place.
func served(o delegation.Observed, step change.Step) bool {
	if step.After.IsZero() {
		return o.Answer == delegation.NoData || o.Answer == delegation.NoName || o.Answer == delegation.Referral || o.Answer == delegation.Lame ||
			o.Answer == delegation.Positive && !(record.Set{Data: o.Data}).SameData(step.Before)
	}
	if step.After.Type == record.ALIAS { // nobody is asked for it: the provider gives addresses in its place
		return true
	}
	if step.After.Type == record.NS { // below the apex: a referral, which is not authoritative
		return o.Answer != delegation.Silent
	}
	return o.Answer == delegation.Positive && (record.Set{Data: o.Data}).SameData(step.After)
}
