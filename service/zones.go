package service

import (
	"context"
	"fmt"
	"time"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/core/wording"
	"beacon/core/zonefile"
	"beacon/store"
	"beacon/wire"
)

// ZoneView is a zone as it is shown.
type ZoneView struct {
	Name       dnsname.Name    `json:"name"`
	Label      string          `json:"label"`
	Registrar  string          `json:"registrar"`
	LedBy      string          `json:"led_by"` // the definition file that says what it contains; empty for none
	TakenOver  bool            `json:"taken_over"`
	Leave      []string        `json:"leave"` // patterns of sets that somebody else looks after
	Care       CareView        `json:"care"`
	Drafted    int             `json:"drafted"` // edits in its draft
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
	Zone        dnsname.Name      `json:"zone"`
	Account     string            `json:"account"`
	ID          uint64            `json:"id"`
	State       store.SyncState   `json:"state"`
	Total       int               `json:"total"` // steps in the change list
	Added       int               `json:"added"`
	Changed     int               `json:"changed"`
	Removed     int               `json:"removed"`
	Requests    int               `json:"requests"` // writes sent to the provider
	Message     string            `json:"message"`
	Findings    []finding.Finding `json:"findings"`
	CreatedAt   time.Time         `json:"created_at"`
	FinishedAt  *time.Time        `json:"finished_at"`
	RequestedBy string            `json:"requested_by"`
	VisibleMS   *int64            `json:"visible_ms"` // from the last write until every nameserver served it
}

func viewSync(s store.Sync, zone dnsname.Name, account string) *SyncView {
	return &SyncView{Zone: zone, Account: account, ID: s.ID, State: s.State, Total: s.Total, Added: s.Added, Changed: s.Changed, Removed: s.Removed, Requests: s.Requests,
		Message: s.Message, Findings: s.FindingList(), CreatedAt: s.CreatedAt, FinishedAt: s.FinishedAt, VisibleMS: s.VisibleMS, RequestedBy: s.RequestedBy}
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
	v := ZoneView{Name: z.Name(), Label: z.Label, LedBy: z.LedBy, TakenOver: z.TakenOver, Leave: []string{}, Care: viewCare(z), Placements: []PlacementView{}}
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
			pv.LastSync = viewSync(syncs[0], v.Name, a.Name)
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

// WantedAddresses is Wanted with addresses in the place of ALIAS records, as far as they are known: what every nameserver can serve.
func (s *Service) WantedAddresses(ctx context.Context, name dnsname.Name) (c record.Contents, err error) {
	wanted, err := s.Wanted(ctx, name)
	if err != nil || len(wanted.Aliases()) == 0 {
		return wanted, err
	}
	err = s.tx(ctx, func(tx *store.Tx) error {
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

// Import is a zone file that is to become what a zone should contain.
type Import struct {
	Zone   dnsname.Name
	File   string // its name, for faults and for the record of where it came from
	Text   string
	Why    string
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
		return Imported{}, &wire.Problem{Kind: wire.Invalid, Message: fmt.Sprintf("The zone file has %s; nothing was changed.", wording.Counted(len(faults), "fault")), Faults: faults}
	}
	contents, left := withoutProvidersOwn(in.Zone, read.Contents())
	out := Imported{Zone: in.Zone, LeftOut: left}
	out.Findings = s.judge(rules.Zone{Name: in.Zone, Contents: contents, Written: read.Records})
	if err := sound(out.Findings, "The zone file holds records that"); err != nil {
		return out, err
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
	found := s.judge(rules.Zone{Name: name, Contents: c})
	if len(c.Aliases()) == 0 {
		return found, nil
	}
	return found, s.tx(ctx, func(tx *store.Tx) error {
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
