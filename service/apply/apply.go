package apply

import (
	"context"
	"errors"
	"fmt"

	"beacon/core/access"
	"beacon/core/change"
	"beacon/core/definition"
	"beacon/core/diff"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/core/wording"
	"beacon/core/zonefile"
	"beacon/service/accounts"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Apply accepts definition files as the desired records and providers of their zones. With any fault in any
// file, nothing is changed. Putting the zones out is the next step, a sync of each.
func (s *Applier) Apply(ctx context.Context, by access.Caller, r wire.ApplyRequest) ([]wire.Applied, error) {
	read, faults := definition.Read(r.Files)
	list := read.Zones
	for _, z := range list {
		needs := []access.Action{access.Place}
		if r.Sync {
			needs = append(needs, access.Sync)
		}
		for _, action := range needs {
			if err := wire.Permit(by, action, access.Zone(z.Name)); err != nil {
				return nil, err
			}
		}
	}
	err := s.logbook.Tx(ctx, func(tx *store.Tx) error {
		faults = append(faults, s.unknownAccounts(tx, list)...)
		return nil
	})
	if err != nil {
		return nil, err
	}
	if len(faults) > 0 {
		return nil, refusal(faults)
	}
	var out []wire.Applied
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		out = make([]wire.Applied, 0, len(list))
		for _, z := range list {
			d, err := s.applyZone(by, tx, z, r, nil)
			if err != nil {
				return err
			}
			out = append(out, d)
		}
		if r.DryRun || !access.May(by, access.Place, access.Everything).Allowed { // kits are known to all zones
			return nil
		}
		return zones.KeepKits(tx, read.Kits)
	})
	return out, err
}

// refusal returns the problem of a definition with faults.
func refusal(faults []zonefile.Fault) *wire.Problem {
	zonefile.SortFaults(faults)
	return &wire.Problem{Kind: wire.Invalid, Message: fmt.Sprintf("The definition has %s; nothing was changed.", wording.Counted(len(faults), "fault")), Faults: faults}
}

// fits refuses a definition of a known zone that cannot be accepted as the zone is now. It returns the number of edits in the zone's draft,
// which are in the way only of files that manage the zone.
func fits(tx *store.Tx, z store.Zone, d definition.Zone, lead bool) (drafted int, err error) {
	if err := zones.HostsFit(tx, z, d.Contents); err != nil {
		return 0, err
	}
	if drafted, err = zones.Drafted(tx, z.ID); err != nil {
		return drafted, err
	}
	if lead && drafted > 0 {
		return drafted, wire.Problemf(wire.Blocked, "%s: its draft has %s, which these files would ignore. Nothing changed. Accept or discard the draft first: beacon draft show %[1]s", d.Name.Unicode(), wording.Counted(drafted, "edit"))
	}
	return drafted, nil
}

// unknownAccounts finds accounts that definitions name and that are not connected.
func (s *Applier) unknownAccounts(tx *store.Tx, list []definition.Zone) []zonefile.Fault {
	var faults []zonefile.Fault
	look := func(z definition.Zone, role, name string) {
		find := func(tx *store.Tx, name string) (store.Account, error) { return accounts.ByName(tx, role, name) }
		if role == wire.RoleProvider {
			find = s.accounts.Named
		}
		var wrong *wire.Problem
		if _, err := find(tx, name); errors.As(err, &wrong) {
			faults = append(faults, zonefile.Fault{File: z.File, Line: z.Line, Column: 3, Message: wrong.Message})
		} else if store.IsMissing(err) {
			faults = append(faults, zonefile.Fault{File: z.File, Line: z.Line, Column: 3,
				Message: fmt.Sprintf("zone %s names the %s account %q, which is not connected here", z.Name.Unicode(), role, name),
				Remedy:  fmt.Sprintf("correct the name, or connect it: beacon %s add %s", role, name)})
		}
	}
	for _, z := range list {
		for _, name := range z.Providers {
			look(z, wire.RoleProvider, name)
		}
		if z.Registrar != "" {
			look(z, wire.RoleRegistrar, z.Registrar)
		}
		if z.DelegateTo != "" {
			look(z, wire.RoleProvider, z.DelegateTo)
		}
	}
	return faults
}

func (s *Applier) applyZone(by access.Caller, tx *store.Tx, d definition.Zone, r wire.ApplyRequest, taken func(access.Caller, *store.Tx, uint64, wire.Applied) error) (wire.Applied, error) {
	out := wire.Applied{Zone: d.Name, Providers: d.Providers, NewProviders: []string{}, Unsynced: []string{}, Syncs: []wire.SyncView{}, Waiting: []wire.WaitingSync{}, Guards: []finding.Finding{}, Registrar: d.Registrar, Kits: []string{},
		Findings: s.zones.Judge(rules.Zone{Name: d.Name, Contents: d.Contents, Written: d.Written})}
	for _, u := range d.Uses {
		out.Kits = append(out.Kits, u.Kit)
	}
	z, known, err := zones.FindOrAdd(tx, d.Name, !r.DryRun)
	if err != nil {
		return out, err
	}
	out.New = !known
	var before record.Contents
	placed := map[string]bool{}
	if known {
		out.ManagedBy, out.Detached = z.ManagedBy, z.Detached
		if out.Drafted, err = fits(tx, z, d, r.Manage && !r.DryRun); err != nil {
			return out, err
		}
		if z.RevisionID != nil {
			if before, err = zones.Contents(tx, *z.RevisionID); err != nil {
				return out, err
			}
		}
		at, _, err := zones.ServedBy(tx, z)
		if err != nil {
			return out, err
		}
		for _, name := range at {
			placed[name] = true
		}
	}
	out.Added, out.Removed, out.Same = record.Difference(before, d.Contents)
	for _, name := range d.Providers {
		if !placed[name] {
			out.NewProviders = append(out.NewProviders, name)
		}
	}
	out.From = zones.FromKits(d, out.Added)
	out.Changed = out.New || len(out.Added)+len(out.Removed)+len(out.NewProviders) > 0
	if known {
		if out.Unsynced, err = sync.Unsynced(tx, z.ID); err != nil {
			return out, err
		}
		out.Guards = diff.Guards(change.Of(before, d.Contents), before, diff.Watched{Zone: d.Name, Protect: d.Protect})
	}
	if r.DryRun {
		return out, nil
	}
	rev, revised, err := s.zones.Revise(by, tx, z, zones.Accepted{Contents: d.Contents, Source: d.File, Reason: r.Reason, From: d.FromKits(), Files: true, Attributes: &d.Attributes})
	if err != nil {
		return out, err
	}
	out.Revision = zones.ViewRevision(rev)
	var registrarID *uint64
	if d.Registrar != "" {
		a, err := accounts.ByName(tx, wire.RoleRegistrar, d.Registrar)
		if err != nil {
			return out, err
		}
		registrarID = &a.ID
	}
	var delegateTo *uint64
	if d.DelegateTo != "" {
		a, err := s.accounts.Ensured(tx, d.DelegateTo)
		if err != nil {
			return out, err
		}
		delegateTo = &a.ID
	}
	said := store.ZoneSaid{Description: d.Description, RegistrarID: registrarID, DelegateToID: delegateTo, TTL: d.TTL, Ignore: d.Ignore, Settings: d.Settings}
	if r.Manage {
		said.ManagedBy = d.File
	}
	changed, err := zones.Set(tx, z.ID, said)
	if err != nil {
		return out, err
	}
	for _, name := range d.Providers {
		a, err := s.accounts.Ensured(tx, name)
		if err != nil {
			return out, err
		}
		if _, err := zones.Place(tx, z.ID, a.ID); err != nil {
			return out, err
		}
	}
	if err := s.accepted(tx, z.ID, d.Nameservers); err != nil {
		return out, err
	}
	if out.Changed = out.Changed || revised || changed; out.Changed {
		err = logbook.Log(tx, by.Name, "zone.applied", d.Name.String(),
			fmt.Sprintf("%s: revision %d, %d records added, %d removed", d.File, rev.Number, len(out.Added), len(out.Removed)))
		if err != nil {
			return out, err
		}
	}
	if r.Sync {
		return out, s.syncApplied(by, tx, z, r.Allow, &out)
	}
	if taken != nil {
		err = taken(by, tx, z.ID, out)
	}
	return out, err
}

// syncApplied starts the syncs of a zone that was applied, in the same transaction. Where one is under way already, it is returned as what
// has to end first.
func (s *Applier) syncApplied(by access.Caller, tx *store.Tx, z store.Zone, allow []string, out *wire.Applied) (err error) {
	if out.Unsynced, err = sync.Unsynced(tx, z.ID); err != nil {
		return err
	}
	for _, account := range out.Unsynced {
		started, err := s.syncs.Start(by, tx, wire.SyncRequest{Zone: out.Zone, Account: account, Allow: allow})
		var p *wire.Problem
		switch {
		case errors.As(err, &p) && p.Kind == wire.Blocked:
			out.Waiting = append(out.Waiting, wire.WaitingSync{Account: account, Problem: p.Message})
		case err != nil:
			return err
		}
		out.Syncs = append(out.Syncs, started...)
	}
	return nil
}
