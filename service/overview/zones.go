package overview

import (
	"context"

	"beacon/core/dnsname"
	"beacon/service/accounts"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Zones lists all zones.
func (s *Overview) Zones(ctx context.Context) (list []wire.ZoneView, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
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
func (s *Overview) Zone(ctx context.Context, name dnsname.Name) (v wire.ZoneView, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
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
	v := wire.ZoneView{Name: z.Name(), Label: z.Label, LedBy: z.LedBy, TakenOver: z.TakenOver, Leave: []string{}, Care: zones.ViewCare(z), Placements: []wire.PlacementView{}}
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
		v.Revision = zones.ViewRevision(rev)
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
			pv.LastSync = sync.ViewSync(syncs[0], v.Name, a.Name)
		}
		v.Placements = append(v.Placements, pv)
	}
	return v, nil
}
