package sync

import (
	"context"
	"slices"

	"beacon/core/change"
	"beacon/core/diff"
	"beacon/core/dynaddr"
	"beacon/core/record"
	"beacon/service/served"
	"beacon/service/zones"
	"beacon/store"
)

// AwaitedHost is a host whose last report is at the provider and has not been seen at the nameservers yet.
type AwaitedHost struct {
	Host store.Host
	sets []record.Set
}

// awaitedHosts returns the hosts whose last report is live by c, and not known to be visible, and which nameservers are to be asked.
func (s *Syncs) awaitedHosts(ctx context.Context, run *syncRun, c comparison) (list []AwaitedHost, at served.Placement, err error) {
	open := map[record.Key]bool{}
	for _, step := range c.result.Steps {
		open[step.Key()] = true
	}
	for _, item := range append(append([]diff.Item{}, c.result.Drift...), c.result.Conflicts...) {
		open[item.Key] = true
	}
	var invisible map[uint64]bool
	if err := s.store.Look(ctx, func(tx *store.Tx) (err error) {
		if invisible, err = s.observer.Invisible(tx, run.Placement.ID); err != nil {
			return err
		}
		p, err := zones.PlacementByID(tx, run.Placement.ID)
		if err != nil {
			return err
		}
		behind, err := tx.NamesBehind(run.Zone.ID, run.Placement.ID)
		at = run.served(p.Names(), behind)
		return err
	}); err != nil {
		return nil, at, err
	}
	for _, h := range c.owners.Hosts {
		if h.ReportID == nil || h.Unspread || !invisible[*h.ReportID] { // what is not spread yet has a sync of its own
			continue
		}
		one := AwaitedHost{Host: h}
		arrived := true
		for _, set := range dynaddr.Sets(h.Name(), h.TTL, h.At()) {
			arrived = arrived && !open[set.Key()]
			one.sets = append(one.sets, set)
		}
		gone := h.Gone()
		arrived = arrived && !(gone.V4 && open[record.Key{Name: h.Name(), Type: record.A}]) && !(gone.V6 && open[record.Key{Name: h.Name(), Type: record.AAAA}])
		if arrived {
			list = append(list, one)
		}
	}
	return list, at, nil
}

// awaitedSteps returns what nameservers are asked for: the last of what was written, and what hosts reported. Behind a relay they answer with something of the
// provider's own, whatever was written.
func awaitedSteps(run *syncRun, awaited []AwaitedHost, c comparison) change.List {
	steps := served.Few(run.applied)
	for _, h := range awaited {
		for _, set := range h.sets {
			steps = append(steps, change.Step{Before: set, After: set})
		}
	}
	return slices.DeleteFunc(steps, func(step change.Step) bool { return run.Caps.Relayed(c.details[step.Key()].Attributes) })
}
