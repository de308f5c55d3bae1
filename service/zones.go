package service

import (
	"context"
	"fmt"
	"time"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/core/zonefile"
	"beacon/store"
)

// ZoneView is a zone as it is shown.
type ZoneView struct {
	Name       dnsname.Name    `json:"name"`
	Label      string          `json:"label"`
	Registrar  string          `json:"registrar"`
	Revision   *store.Revision `json:"revision"`
	Placements []PlacementView `json:"placements"`
}

// PlacementView is a zone's placement as it is shown.
type PlacementView struct {
	Account     string         `json:"account"`
	Made        bool           `json:"made"` // the zone exists at the provider
	Nameservers []dnsname.Name `json:"nameservers"`
	LastSync    *SyncView      `json:"last_sync"`
}

// SyncView is a sync as it is shown.
type SyncView struct {
	ID         uint64            `json:"id"`
	State      store.SyncState   `json:"state"`
	Total      int               `json:"total"` // steps in the change list
	Added      int               `json:"added"`
	Changed    int               `json:"changed"`
	Removed    int               `json:"removed"`
	Requests   int               `json:"requests"` // writes sent to the provider
	Message    string            `json:"message"`
	Findings   []finding.Finding `json:"findings"`
	CreatedAt  time.Time         `json:"created_at"`
	FinishedAt *time.Time        `json:"finished_at"`
	VisibleMS  *int64            `json:"visible_ms"` // from the last write until every nameserver served it
}

func viewSync(s store.Sync) *SyncView {
	return &SyncView{ID: s.ID, State: s.State, Total: s.Total, Added: s.Added, Changed: s.Changed, Removed: s.Removed, Requests: s.Requests,
		Message: s.Message, Findings: s.FindingList(), CreatedAt: s.CreatedAt, FinishedAt: s.FinishedAt, VisibleMS: s.VisibleMS}
}

// Zones lists all zones.
func (s *Service) Zones(ctx context.Context) (list []ZoneView, err error) {
	err = s.tx(ctx, func(tx *store.Tx) error {
		zones, err := tx.Zones()
		if err != nil {
			return err
		}
		list = make([]ZoneView, 0, len(zones))
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
func (s *Service) Zone(ctx context.Context, name dnsname.Name) (v ZoneView, err error) {
	err = s.tx(ctx, func(tx *store.Tx) error {
		z, err := tx.Zone(name)
		if err != nil {
			return err
		}
		v, err = viewZone(tx, z)
		return err
	})
	return v, err
}

func viewZone(tx *store.Tx, z store.Zone) (ZoneView, error) {
	v := ZoneView{Name: z.Name(), Label: z.Label, Placements: []PlacementView{}}
	if z.RevisionID != nil {
		rev, err := tx.Revision(*z.RevisionID)
		if err != nil {
			return v, err
		}
		v.Revision = &rev
	}
	if z.RegistrarID != nil {
		a, err := tx.AccountByID(*z.RegistrarID)
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
		a, err := tx.AccountByID(p.AccountID)
		if err != nil {
			return v, err
		}
		pv := PlacementView{Account: a.Name, Made: p.RemoteID != "", Nameservers: p.Names()}
		syncs, err := tx.Syncs(p.ID)
		if err != nil {
			return v, err
		}
		if len(syncs) > 0 {
			pv.LastSync = viewSync(syncs[0])
		}
		v.Placements = append(v.Placements, pv)
	}
	return v, nil
}

// Wanted gives what a zone should contain: its revision, with the addresses that were reported on top.
func (s *Service) Wanted(ctx context.Context, name dnsname.Name) (c record.Contents, err error) {
	err = s.tx(ctx, func(tx *store.Tx) error {
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

// Import is a zone file that is to become what a zone should contain.
type Import struct {
	Zone   dnsname.Name
	File   string // its name, for faults and for the record of where it came from
	Text   string
	DryRun bool
}

// LeftOut is a record of an imported file that is not taken over, and why.
type LeftOut struct {
	Record record.Record `json:"record"`
	Why    string        `json:"why"`
}

// Imported says what an import does, or did.
type Imported struct {
	Zone     dnsname.Name    `json:"zone"`
	Added    []record.Record `json:"added"`
	Removed  []record.Record `json:"removed"`
	Same     int             `json:"same"`
	LeftOut  []LeftOut       `json:"left_out"`
	Findings []rules.Found   `json:"findings"` // what the rules say of the zone
	Revision *store.Revision `json:"revision"` // nil in a dry run
}

// ImportZone takes the records of a zone file over as a new revision. SOA and apex NS belong to the provider that the
// file came from and are left out.
func (s *Service) ImportZone(ctx context.Context, in Import) (Imported, error) {
	read, faults := zonefile.Read(in.Text, zonefile.Options{Origin: in.Zone, File: in.File})
	if len(faults) > 0 {
		return Imported{}, &Problem{Kind: Invalid, Message: fmt.Sprintf("The zone file has %d faults; nothing was changed.", len(faults)), Faults: faults}
	}
	contents, left := withoutProvidersOwn(in.Zone, read.Contents())
	out := Imported{Zone: in.Zone, LeftOut: left}
	out.Findings = rules.Check(rules.Zone{Name: in.Zone, Contents: contents, Written: read.Records, Believe: s.settings.Hosts.Believe})
	if found := rules.Errors(out.Findings); len(found) > 0 {
		return out, &Problem{Kind: Invalid, Message: "The zone file holds records that no nameserver could serve; nothing was changed.", Findings: found}
	}
	err := s.tx(ctx, func(tx *store.Tx) error {
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
			if err := hostsFit(tx, z, contents); err != nil {
				return err
			}
		}
		out.Added, out.Removed, out.Same = record.Difference(before, contents)
		if in.DryRun {
			return nil
		}
		rev, _, err := tx.AddRevision(z, contents, actor(ctx), "import of "+in.File)
		if err != nil {
			return err
		}
		out.Revision = &rev
		return tx.Log(actor(ctx), "zone.imported", in.Zone.String(), fmt.Sprintf("%s: %d records, revision %d", in.File, contents.Len(), rev.Number))
	})
	return out, err
}

// zoneOrNew finds and locks a zone; one that is missing is made if make is set.
func zoneOrNew(tx *store.Tx, name dnsname.Name, create bool) (z store.Zone, known bool, err error) {
	z, err = tx.LockZone(name)
	switch {
	case err == nil:
		return z, true, nil
	case !isMissing(err):
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
	return rules.Check(rules.Zone{Name: name, Contents: c, Believe: s.settings.Hosts.Believe}), nil
}
