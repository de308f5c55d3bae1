package gather

import (
	"context"
	"fmt"
	"strings"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/gather"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/core/zonefile"
	"beacon/service/later"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Accept makes what was gathered desired records, as a revision. Nothing is written to a provider.
func (s *Gather) Accept(ctx context.Context, by access.Caller, r wire.GatheringAcceptance) (out wire.Imported, err error) {
	if err := wire.Permit(by, access.Edit, access.Zone(r.Domain)); err != nil {
		return out, err
	}
	g, err := s.newest(ctx, r.Domain)
	if err != nil {
		return out, err
	}
	name := r.Domain.Unicode()
	switch {
	case r.ID != 0 && r.ID != g.ID:
		return out, wire.Problemf(wire.Stale, "The records of %s were gathered once more since then. Nothing was changed. Look at them again: beacon zone gather %s --last.", name, name)
	case g.FinishedAt == nil:
		return out, wire.Problemf(wire.Blocked, "The records of %s are still being gathered. Nothing was changed. See how far it is: beacon zone gather %s --last.", name, name)
	case g.Problem != "":
		return out, wire.Problemf(wire.Blocked, "%s Nothing was changed.", g.Problem)
	}
	list, err := unpacked(g.Found)
	if err != nil {
		return out, err
	}
	merged := gather.Merge(r.Domain, list)
	decisions, err := decided(merged, r)
	if err != nil {
		return out, err
	}
	if open := merged.Undecided(decisions); len(open) > 0 {
		return out, wire.Problemf(wire.Blocked, "%s of %s: decide first, such as about %s %s (--keep, --leave or --alias). Nothing was changed.", wording.Counted(len(open), "record set"), name, open[0].Key.Name.Relative(r.Domain), open[0].Key.Type)
	}
	var text strings.Builder
	if err := zonefile.Write(&text, r.Domain, merged.Contents(r.Domain, decisions)); err != nil {
		return out, err
	}
	out, err = s.zones.ImportWithin(ctx, by, wire.Import{Zone: r.Domain, File: fmt.Sprintf("gathering %d", g.ID), Text: text.String(), Partial: true, Reason: r.Reason, DryRun: r.DryRun}, s.afterwards(by, r))
	if err != nil || r.DryRun {
		return out, err
	}
	return out, s.holding(ctx, by, r.Domain)
}

// afterwards keeps what an acceptance replaces, to be proposed once the domain has moved; it returns nil where that is not desired.
func (s *Gather) afterwards(by access.Caller, r wire.GatheringAcceptance) func(*store.Tx, store.Zone, record.Contents, record.Contents) error {
	if !r.Afterwards {
		return nil
	}
	return func(tx *store.Tx, z store.Zone, before, after record.Contents) error {
		switch moving, err := s.moving(tx, z); {
		case err != nil:
			return err
		case !moving:
			return wire.Problemf(wire.Blocked, "No handover of %s is open: there is no afterwards to propose your records in. Accept without it. Nothing was changed.", r.Domain.Unicode())
		case r.DryRun:
			return nil
		}
		return later.Keep(tx, by, z, before, after)
	}
}

// holding keeps which account at a registrar has a domain, so that its nameservers can be changed there.
func (s *Gather) holding(ctx context.Context, by access.Caller, name dnsname.Name) error {
	account, err := s.heldBy(ctx, name)
	if err != nil || account.ID == 0 {
		return err
	}
	return s.logbook.Tx(ctx, func(tx *store.Tx) error {
		set, err := zones.HeldBy(tx, name, account.ID)
		if err != nil || !set {
			return err
		}
		return logbook.Log(tx, by.Name, "zone.settings-changed", name.String(), "registrar "+account.Name)
	})
}

// decided reads the decisions of a user.
func decided(o gather.Outcome, r wire.GatheringAcceptance) (list []gather.Decision, err error) {
	for _, d := range r.Decisions {
		at := false
		for _, doubt := range o.Doubts {
			at = at || doubt.Key == d.Key
		}
		if !at {
			return nil, wire.Problemf(wire.Invalid, "There is nothing to decide about %s %s. Nothing was changed.", d.Name.Relative(r.Domain), d.Type)
		}
		c := gather.Decision{Key: d.Key, Choice: d.Choice}
		switch d.Choice {
		case gather.Keep, gather.Leave:
		case gather.Alias:
			if c.Target, err = dnsname.Parse(d.Target); err != nil {
				return nil, wire.Problemf(wire.Invalid, "The target of %s: %s. Nothing was changed.", d.Name.Relative(r.Domain), err)
			}
		default:
			return nil, wire.Problemf(wire.Invalid, "%q is no choice: write keep, leave or alias. Nothing was changed.", d.Choice)
		}
		list = append(list, c)
	}
	return list, nil
}
