package service

import (
	"context"
	"fmt"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/core/wording"
	"beacon/core/zonefile"
	"beacon/service/accounts"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

func viewSync(s store.Sync, zone dnsname.Name, account string) *wire.SyncView {
	return &wire.SyncView{Zone: zone, Account: account, ID: s.ID, State: wire.SyncState(s.State), Total: s.Total, Added: s.Added, Changed: s.Changed, Removed: s.Removed, Requests: s.Requests,
		Message: s.Message, Findings: s.FindingList(), CreatedAt: s.CreatedAt, FinishedAt: s.FinishedAt, VisibleMS: s.VisibleMS, RequestedBy: s.RequestedBy}
}

// Zones lists all zones.
func (s *Service) Zones(ctx context.Context) (list []wire.ZoneView, err error) {
	err = s.Logbook.Tx(ctx, func(tx *store.Tx) error {
		zones, err := tx.Zones()
		if err != nil {
			return err
		}
		list = make([]wire.ZoneView, 0, len(zones))
		for _, z := range zones {
			v, err := viewZone(tx, z)
			if err != nil {
				return err
			}
			list = append(list, v)
		}
		return nil
	})
	return list, err
}

// Zone shows one zone.
func (s *Service) Zone(ctx context.Context, name dnsname.Name) (v wire.ZoneView, err error) {
	err = s.Logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.Zone(name)
		if err != nil {
			return err
		}
		v, err = viewZone(tx, z)
		return err
	})
	return v, err
}

func viewZone(tx *store.Tx, z store.Zone) (wire.ZoneView, error) {
	v := wire.ZoneView{Name: z.Name(), Label: z.Label, LedBy: z.LedBy, TakenOver: z.TakenOver, Leave: []string{}, Care: viewCare(z), Placements: []wire.PlacementView{}}
	for _, p := range z.Leave() {
		v.Leave = append(v.Leave, p.String())
	}
	edits, err := tx.DraftEdits(z.ID)
	if err != nil {
		return v, err
	}
	v.Drafted = len(edits)
	if z.RevisionID != nil {
		rev, err := tx.Revision(*z.RevisionID)
		if err != nil {
			return v, err
		}
		v.Revision = viewRevision(rev)
	}
	if z.RegistrarID != nil {
		a, err := accounts.ByID(tx, *z.RegistrarID)
		if err != nil {
			return v, err
		}
		v.Registrar = a.Name
	}
	placements, err := tx.Placements(z.ID)
	if err != nil {
		return v, err
	}
	for _, p := range placements {
		a, err := accounts.ByID(tx, p.AccountID)
		if err != nil {
			return v, err
		}
		pv := wire.PlacementView{Account: a.Name, Made: p.RemoteID != "", Nameservers: p.Names()}
		syncs, err := tx.Syncs(p.ID)
		if err != nil {
			return v, err
		}
		if len(syncs) > 0 {
			pv.LastSync = viewSync(syncs[0], v.Name, a.Name)
		}
		v.Placements = append(v.Placements, pv)
	}
	return v, nil
}

// Wanted gives what a zone should contain: its revision, with the addresses that were reported on top.
func (s *Service) Wanted(ctx context.Context, name dnsname.Name) (c record.Contents, err error) {
	err = s.Logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.Zone(name)
		if err != nil || z.RevisionID == nil {
			return err
		}
		if c, err = tx.Contents(*z.RevisionID); err != nil {
			return err
		}
		hosts, err := tx.HostsOf(z.ID)
		c = overlay(c, hosts)
		return err
	})
	return c, err
}

// WantedAddresses is Wanted with addresses in the place of ALIAS records, as far as they are known: what every nameserver can serve.
func (s *Service) WantedAddresses(ctx context.Context, name dnsname.Name) (c record.Contents, err error) {
	wanted, err := s.Wanted(ctx, name)
	if err != nil || len(wanted.Aliases()) == 0 {
		return wanted, err
	}
	err = s.Logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.Zone(name)
		if err != nil {
			return err
		}
		known, err := tx.Aliases(z.ID)
		c, _ = resolved(name, wanted, known)
		return err
	})
	return c, err
}

// ImportZone takes the records of a zone file over as a new revision. SOA and apex NS belong to the provider that the
// file came from and are left out.
func (s *Service) ImportZone(ctx context.Context, in wire.Import) (wire.Imported, error) {
	read, faults := zonefile.Read(in.Text, zonefile.Options{Origin: in.Zone, File: in.File})
	if len(faults) > 0 {
		return wire.Imported{}, &wire.Problem{Kind: wire.Invalid, Message: fmt.Sprintf("The zone file has %s; nothing was changed.", wording.Counted(len(faults), "fault")), Faults: faults}
	}
	contents, left := withoutProvidersOwn(in.Zone, read.Contents())
	out := wire.Imported{Zone: in.Zone, LeftOut: left}
	out.Findings = s.judge(rules.Zone{Name: in.Zone, Contents: contents, Written: read.Records})
	if err := sound(out.Findings, "The zone file holds records that"); err != nil {
		return out, err
	}
	err := s.Logbook.Tx(ctx, func(tx *store.Tx) error {
		z, known, err := zoneOrNew(tx, in.Zone, !in.DryRun)
		if err != nil {
			return err
		}
		var before record.Contents
		if known && z.RevisionID != nil {
			if before, err = tx.Contents(*z.RevisionID); err != nil {
				return err
			}
		}
		if known {
			if err := ledByNobody(z); err != nil {
				return err
			}
			if err := hostsFit(tx, z, contents); err != nil {
				return err
			}
		}
		out.Added, out.Removed, out.Same = record.Difference(before, contents)
		if in.DryRun {
			return nil
		}
		rev, _, err := s.revise(ctx, tx, z, accepted{contents: contents, source: "import of " + in.File, why: in.Why})
		if err != nil {
			return err
		}
		out.Revision = viewRevision(rev)
		return logbook.Log(tx, logbook.Actor(ctx), "zone.imported", in.Zone.String(), fmt.Sprintf("%s: %d records, revision %d", in.File, contents.Len(), rev.Number))
	})
	return out, err
}

// zoneOrNew finds and locks a zone; one that is missing is made if make is set.
func zoneOrNew(tx *store.Tx, name dnsname.Name, create bool) (z store.Zone, known bool, err error) {
	z, err = tx.LockZone(name)
	switch {
	case err == nil:
		return z, true, nil
	case !store.IsMissing(err):
		return z, false, err
	case !create:
		return z, false, nil
	}
	z, err = tx.AddZone(name)
	return z, false, err
}

// Findings judges what a zone should contain.
func (s *Service) Findings(ctx context.Context, name dnsname.Name) ([]rules.Found, error) {
	c, err := s.Wanted(ctx, name)
	if err != nil {
		return nil, err
	}
	found := s.judge(rules.Zone{Name: name, Contents: c})
	if len(c.Aliases()) == 0 {
		return found, nil
	}
	return found, s.Logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.Zone(name)
		if err != nil {
			return err
		}
		known, err := tx.Aliases(z.ID)
		for _, f := range aliasFindings(known) {
			found = append(found, rules.Found{Finding: f})
		}
		return err
	})
}
