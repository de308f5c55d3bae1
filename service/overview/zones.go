package overview

import (
	"context"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/service/check"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Zones returns at most limit zones behind a name, in canonical order, and whether there are more.
func (s *Overview) Zones(ctx context.Context, by access.Caller, after dnsname.Name, limit int) (list []wire.ZoneView, more bool, err error) {
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		tx.Narrow(access.Where(by, access.See))
		rows, err := tx.ZonesAfter(after, limit+1)
		if err != nil {
			return err
		}
		if more = len(rows) > limit; more {
			rows = rows[:limit]
		}
		list, err = viewZones(tx, rows)
		return err
	})
	return list, more, err
}

// Zone shows one zone.
func (s *Overview) Zone(ctx context.Context, by access.Caller, name dnsname.Name) (v wire.ZoneView, err error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return v, err
	}
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		row, err := tx.ZoneNamed(name)
		if err != nil {
			return err
		}
		if v, err = viewZone(tx, row); err != nil {
			return err
		}
		return s.delegated(tx, row.Zone, &v)
	})
	return v, err
}

// delegated adds what a program needs that delegates the zone elsewhere.
func (s *Overview) delegated(tx *store.Tx, z store.Zone, v *wire.ZoneView) error {
	if parent, there, err := zones.ParentOf(tx, v.Name); err != nil {
		return err
	} else if there && z.RegistrarID == nil {
		v.Parent = parent.Name().Unicode()
	}
	children, err := zones.ChildrenOf(tx, z.ID)
	if err != nil {
		return err
	}
	for _, c := range children {
		if len(c.Nameservers) > 0 {
			v.Children = append(v.Children, c.Name)
		}
	}
	v.DefaultSOA = wire.SOAOf(s.zones.DefaultSOA())
	d, err := check.DomainOrNew(tx, z.ID)
	if err != nil {
		return err
	}
	v.Nameservers = d.WantedSet()
	report, _, err := tx.LastReport(d.ID)
	v.DS = report.DS
	return err
}

func viewZone(tx *store.Tx, row store.ZoneRow) (v wire.ZoneView, err error) {
	list, err := viewZones(tx, []store.ZoneRow{row})
	if err != nil {
		return v, err
	}
	return list[0], nil
}

// viewZones shows zones with their revisions, placements and last syncs: three queries, however many they are.
func viewZones(tx *store.Tx, rows []store.ZoneRow) ([]wire.ZoneView, error) {
	var ids, revisionIDs, syncIDs []uint64
	for _, z := range rows {
		ids = append(ids, z.ID)
		if z.RevisionID != nil {
			revisionIDs = append(revisionIDs, *z.RevisionID)
		}
	}
	revisions, err := tx.RevisionsByID(revisionIDs)
	if err != nil {
		return nil, err
	}
	placements, err := tx.PlacementsOf(ids)
	if err != nil {
		return nil, err
	}
	for _, list := range placements {
		for _, p := range list {
			if p.LastSyncID != 0 {
				syncIDs = append(syncIDs, p.LastSyncID)
			}
		}
	}
	syncs, err := tx.SyncsByID(syncIDs)
	if err != nil {
		return nil, err
	}
	list := make([]wire.ZoneView, len(rows))
	for i, z := range rows {
		v := wire.ZoneView{Name: z.Name(), Description: z.Description, Registrar: z.RegistrarName, ManagedBy: z.ManagedBy, Detached: z.Detached, Ignore: []string{}, Settings: zones.ViewSettings(z.Zone),
			Drafted: z.Drafted, Placements: []wire.ZonePlacement{}}
		for _, p := range z.Ignored() {
			v.Ignore = append(v.Ignore, p.String())
		}
		if z.RevisionID != nil {
			v.Revision = zones.ViewRevision(revisions[*z.RevisionID])
		}
		for _, p := range placements[z.ID] {
			pv := wire.ZonePlacement{Account: p.AccountName, ID: p.RemoteID, Made: p.RemoteID != "", Nameservers: p.Names()}
			if last, ok := syncs[p.LastSyncID]; ok {
				pv.LastSync = sync.ViewSync(last, v.Name, p.AccountName)
			}
			v.Placements = append(v.Placements, pv)
		}
		list[i] = v
	}
	return list, nil
}
