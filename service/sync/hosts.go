package sync

import (
	"context"

	"beacon/core/diff"
	"beacon/core/dynaddr"
	"beacon/core/record"
	"beacon/store"
)

// AwaitedHost is a host whose last report is at the provider and has not been seen at the nameservers yet.
type AwaitedHost struct {
	Host store.Host
	sets []record.Set
}

// awaitedHosts returns the hosts whose last report is live by c, and not known to be visible.
func (s *Syncs) awaitedHosts(ctx context.Context, run *syncRun, c comparison) (list []AwaitedHost, err error) {
	open := map[record.Key]bool{}
	for _, step := range c.result.Steps {
		open[step.Key()] = true
	}
	for _, item := range append(append([]diff.Item{}, c.result.Drift...), c.result.Conflicts...) {
		open[item.Key] = true
	}
	var invisible map[uint64]bool
	if err := s.store.Tx(ctx, func(tx *store.Tx) (err error) {
		invisible, err = s.observer.Invisible(tx, run.Placement.ID)
		return err
	}); err != nil {
		return nil, err
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
	return list, nil
}
