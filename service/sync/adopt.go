package sync

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"beacon/core/access"
	"beacon/core/change"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Adopt makes what was changed at an account desired. What is read is adopted once it can be believed, and past the same guards as any
// other change; allow names those that the user allows.
func (s *Syncs) Adopt(ctx context.Context, by access.Caller, name dnsname.Name, r wire.Adoption) (taken []diff.Item, err error) {
	if err := wire.Permit(by, access.Edit, access.Zone(name)); err != nil {
		return nil, err
	}
	if err := wire.Permit(by, access.Sync, access.Zone(name)); err != nil {
		return nil, err
	}
	places, err := s.PlacesOf(ctx, name)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(places, func(p Place) bool { return p.Account.Name == r.Account })
	if at < 0 {
		return nil, wire.Problemf(wire.NotFound, "Zone %s is not placed at %s.", name.Unicode(), r.Account)
	}
	p := places[at]
	if p.Zone.RevisionID == nil || p.Placement.RemoteID == "" {
		return nil, wire.Problemf(wire.Blocked, "Zone %s is not at %s yet.", name.Unicode(), r.Account)
	}
	c, err := s.believe(ctx, &p, lookPatience, func() (comparison, error) { return s.compare(ctx, p, *p.Zone.RevisionID, diff.LeaveDrift) })
	var doubted errUnconfirmed
	switch {
	case errors.As(err, &doubted) && slices.Contains(r.Allow, diff.GuardUnconfirmed):
	case errors.As(err, &doubted):
		problem := wire.Problemf(wire.Blocked, "%s", doubted.finding.Message)
		problem.Findings = []finding.Finding{doubted.finding}
		return nil, problem
	case err != nil:
		return nil, logbook.Explain(err)
	}
	items := append(append([]diff.Item{}, c.result.Drift...), c.result.Conflicts...)
	if len(items) == 0 {
		return nil, wire.Problemf(wire.Blocked, "Nothing of %s was changed at %s: there is nothing to adopt.", name.Unicode(), r.Account)
	}
	return items, s.adopt(ctx, by, p, items, r.Allow)
}

// adoptGuards returns the guards that block an adoption: those that would block a sync of the same change.
func adoptGuards(z store.Zone, desired record.Contents, hosts []store.Host, items []diff.Item, allow []string) (blocking []finding.Finding) {
	var steps change.List
	for _, item := range items {
		steps = append(steps, change.Step{Before: desired.Get(item.Key), After: item.Live})
	}
	for _, g := range diff.Guards(steps, desired, watched(z, hosts, nil)) {
		if !slices.Contains(allow, g.Code) {
			blocking = append(blocking, g)
		}
	}
	return blocking
}

func (s *Syncs) adopt(ctx context.Context, by access.Caller, p Place, items []diff.Item, allow []string) error {
	return s.logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := zones.Lock(tx, p.Zone.Name())
		if err != nil {
			return err
		}
		if *z.RevisionID != *p.Zone.RevisionID {
			return wire.Problemf(wire.Blocked, "The desired records of %s have changed since then. Nothing changed now. Look again (beacon drift), then adopt.", z.Name().Unicode())
		}
		wanted, err := zones.Contents(tx, *z.RevisionID)
		if err != nil {
			return err
		}
		hosts, err := zones.HostsOf(tx, z.ID)
		if err != nil {
			return err
		}
		if blocking := adoptGuards(z, wanted, hosts, items, allow); len(blocking) > 0 {
			problem := wire.Problemf(wire.Blocked, "A guard blocks the adoption of what was changed at %s: %s Nothing changed.", p.Account.Name, blocking[0].Message)
			problem.Findings = blocking
			return problem
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
		if _, _, err := s.zones.Revise(by, tx, z, zones.Accepted{Contents: wanted, Source: "adopted from " + p.Account.Name, Reason: "changed at " + p.Account.Name}); err != nil {
			return err
		}
		if err := tx.SetPlaced(p.Placement.ID, placed); err != nil {
			return err
		}
		if err := tx.ForgetPlaced(p.Placement.ID, gone); err != nil {
			return err
		}
		return logbook.Log(tx, by.Name, "drift.adopted", z.Name().String(), fmt.Sprintf("%s from %s", wording.Counted(len(items), "record set"), p.Account.Name))
	})
}
