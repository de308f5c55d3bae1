package sync

import (
	"context"
	"fmt"

	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Adopt makes what somebody changed at an account what the zone should contain.
func (s *Syncs) Adopt(ctx context.Context, name dnsname.Name, account string) (taken []diff.Item, err error) {
	places, err := s.PlacesOf(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, p := range places {
		if p.Account.Name != account {
			continue
		}
		if p.Zone.RevisionID == nil || p.Placement.RemoteID == "" {
			return nil, wire.Problemf(wire.InTheWay, "Zone %s is not at %s yet.", name.Unicode(), account)
		}
		c, err := s.compare(ctx, p, *p.Zone.RevisionID, diff.LeaveDrift)
		if err != nil {
			return nil, logbook.Explain(err)
		}
		items := append(append([]diff.Item{}, c.result.Drift...), c.result.Conflicts...)
		if len(items) == 0 {
			return nil, wire.Problemf(wire.InTheWay, "Nothing of %s was changed at %s: there is nothing to adopt.", name.Unicode(), account)
		}
		return items, s.adopt(ctx, p, items)
	}
	return nil, wire.Problemf(wire.Missing, "Zone %s is not placed at %s.", name.Unicode(), account)
}

func (s *Syncs) adopt(ctx context.Context, p Place, items []diff.Item) error {
	return s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := zones.Lock(tx, p.Zone.Name())
		if err != nil {
			return err
		}
		if *z.RevisionID != *p.Zone.RevisionID {
			return wire.Problemf(wire.InTheWay, "What %s should contain was changed meanwhile. Look at it again, then adopt.", z.Name().Unicode())
		}
		wanted, err := zones.Contents(tx, *z.RevisionID)
		if err != nil {
			return err
		}
		var placed []store.PlacedSet
		var gone []record.Key
		for _, item := range items {
			if item.Live.IsZero() {
				wanted = wanted.Without(item.Key)
				gone = append(gone, item.Key)
				continue
			}
			wanted = wanted.With(item.Live)
			placed = append(placed, store.PlacedSet{Sent: item.Live, Read: item.Live})
		}
		if _, _, err := s.zones.Revise(ctx, tx, z, zones.Accepted{Contents: wanted, Source: "adopted from " + p.Account.Name, Why: "changed at " + p.Account.Name}); err != nil {
			return err
		}
		if err := tx.SetPlaced(p.Placement.ID, placed); err != nil {
			return err
		}
		if err := tx.ForgetPlaced(p.Placement.ID, gone); err != nil {
			return err
		}
		return logbook.Log(tx, logbook.Actor(ctx), "drift.adopted", z.Name().String(), fmt.Sprintf("%s from %s", wording.Counted(len(items), "record set"), p.Account.Name))
	})
}
