package overview

import (
	"context"
	"slices"
	"time"

	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// mostListed is how many entries a list of the first page has.
const mostListed = 20

// mostRead is how many lines of the logbook are read for what was done; checks that saw something new, and sign-ins, are left out.
const mostRead = 200

// Today returns what a user looks at first.
func (s *Overview) Today(ctx context.Context, by access.Caller) (out wire.Today, err error) {
	counts, err := s.Counts(ctx, by)
	if err != nil {
		return out, err
	}
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		scope := access.Where(by, access.See)
		tx.Narrow(scope)
		now := s.store.Now()
		out = wire.Today{States: counts.Counts, Settling: []wire.TodaySettling{}, Running: []wire.TodayItem{}, Ending: []wire.TodayEnding{},
			Entries: []wire.Entry{}, Samples: []wire.TodaySample{}, SimulatedAt: s.world.Now().UTC()}
		var err error
		if out.Attention, err = attention(tx); err != nil {
			return err
		}
		if err := onTheWay(tx, &out); err != nil {
			return err
		}
		ends, err := tx.Deadlines(mostListed)
		for _, e := range ends {
			out.Ending = append(out.Ending, wire.TodayEnding{Zone: dnsname.FromKey(e.NameKey), Code: e.Code, Subject: e.Subject, EndsAt: e.EndsAt})
		}
		if err != nil {
			return err
		}
		out.Done.Since = now.Add(-24 * time.Hour)
		done, err := tx.ChangesSince(out.Done.Since)
		if err != nil {
			return err
		}
		out.Done.Revisions, out.Done.Syncs, out.Done.Troubled, out.Done.Delegations = done.Revisions, done.Syncs, done.Troubled, done.Delegations
		entries, err := tx.Entries("", false, access.May(by, access.Users, access.Everything).Allowed, 0, mostRead)
		for _, e := range entries {
			if len(out.Entries) < mostListed && e.At.After(out.Done.Since) && e.Action != "domain.seen" && e.Action != "user.signed-in" {
				out.Entries = append(out.Entries, logbook.View(e))
			}
		}
		if err != nil || !scope.All() { // the figures of the last weeks are of all zones
			return err
		}
		return samples(tx, now, &out)
	})
	return out, err
}

// attention lists what needs a person: domains that need action, handovers that wait for a user, blocked syncs, drift, domains that are ready to move, failed checks, drafts.
func attention(tx *store.Tx) (list []wire.TodayItem, err error) {
	list = []wire.TodayItem{}
	domains := func(verdicts ...delegation.Verdict) error {
		for _, v := range verdicts {
			rows, err := tx.DomainsAfter(dnsname.Name{}, mostListed, store.DomainFilter{Verdict: &v})
			if err != nil {
				return err
			}
			for _, r := range rows {
				if name := dnsname.FromKey(r.NameKey); v == delegation.ReadyToMove && slices.ContainsFunc(list, func(i wire.TodayItem) bool { return i.Kind == "handover" && i.Zone == name }) {
					continue // its handover says so
				}
				list = append(list, wire.TodayItem{Kind: "domain", Zone: dnsname.FromKey(r.NameKey), Verdict: v, Finding: r.Gravest})
			}
		}
		return nil
	}
	if err := domains(delegation.NeedsAction); err != nil {
		return nil, err
	}
	asking, err := tx.AskingHandovers(mostListed)
	for _, h := range asking {
		list = append(list, wire.TodayItem{Kind: "handover", Zone: dnsname.FromKey(h.NameKey), ID: h.ID, State: h.Phase, Message: h.Asks})
	}
	if err != nil {
		return nil, err
	}
	blocked, err := tx.BlockedSyncs(mostListed)
	for _, b := range blocked {
		list = append(list, wire.TodayItem{Kind: "sync", Zone: dnsname.FromKey(b.NameKey), Account: b.Account, ID: b.SyncID, State: string(b.State), Message: b.Message, Since: b.FinishedAt})
	}
	if err != nil {
		return nil, err
	}
	drifted, err := tx.TroubledPlacements(mostListed)
	for _, d := range drifted {
		list = append(list, wire.TodayItem{Kind: "drift", Zone: dnsname.FromKey(d.NameKey), Account: d.Account, State: string(d.State), Count: d.Drifted + d.Conflicting, Message: d.Trouble, Since: d.LookedAt})
	}
	if err != nil {
		return nil, err
	}
	if err := domains(delegation.ReadyToMove, delegation.Unknown); err != nil {
		return nil, err
	}
	drafts, err := tx.OpenDrafts(mostListed)
	for _, d := range drafts {
		list = append(list, wire.TodayItem{Kind: "draft", Zone: dnsname.FromKey(d.NameKey), Count: d.Edits})
	}
	return list, err
}

func onTheWay(tx *store.Tx, out *wire.Today) error {
	settling, err := tx.Settling(mostListed)
	for _, d := range settling {
		out.Settling = append(out.Settling, wire.TodaySettling{Zone: dnsname.FromKey(d.NameKey), SettlesBy: d.SettlesBy})
	}
	if err != nil {
		return err
	}
	running, err := tx.RunningSyncs(mostListed)
	for _, r := range running {
		out.Running = append(out.Running, wire.TodayItem{Kind: "sync", Zone: dnsname.FromKey(r.NameKey), Account: r.Account, ID: r.SyncID, State: string(r.State), Message: r.Message})
	}
	if err != nil {
		return err
	}
	moving, err := tx.RunningDelegations(mostListed)
	for _, a := range moving {
		name, err := dnsname.Parse(a.Subject)
		if err != nil {
			return err
		}
		out.Running = append(out.Running, wire.TodayItem{Kind: "delegation", Zone: name, ID: a.ID, State: string(a.State), Message: a.Message})
	}
	return err
}

func samples(tx *store.Tx, now time.Time, out *wire.Today) error {
	rows, err := tx.Samples(now.Add(-30 * 24 * time.Hour))
	if err != nil {
		return err
	}
	for _, r := range rows {
		states, err := r.ByState()
		if err != nil {
			return err
		}
		out.Samples = append(out.Samples, wire.TodaySample{At: r.At, Domains: states, Revisions: r.Revisions, Syncs: r.Syncs, SyncMS: r.SyncMS, CheckMS: r.CheckMS})
	}
	return nil
}
