package overview

import (
	"context"
	"fmt"

	"beacon/core/access"
	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/service/accounts"
	"beacon/service/acts"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// mostNames is how many sets of a request are named.
const mostNames = 4

// Requests returns the requests of a sync in their order.
func (s *Overview) Requests(ctx context.Context, by access.Caller, id uint64) (list []wire.SentRequest, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		list = []wire.SentRequest{}
		if _, _, _, err := syncOf(tx, by, id); err != nil {
			return err
		}
		requests, err := acts.OfSync(tx, id)
		if err != nil {
			return err
		}
		for _, i := range requests {
			var steps change.List
			if i.Kind == acts.Records {
				if steps, err = i.Steps(); err != nil {
					return err
				}
			}
			r := wire.SentRequest{ID: i.ID, Kind: i.Kind, State: wire.RequestState(i.State), Problem: i.Problem, SentAt: i.CreatedAt, TookMS: -1, Accepted: i.Receipt != "", Names: []string{}}
			r.Added, r.Changed, r.Removed = steps.Count()
			for _, step := range steps[:min(len(steps), mostNames)] {
				r.Names = append(r.Names, step.Key().Name.Unicode()+" "+step.Key().Type.String())
			}
			if i.FinishedAt != nil {
				r.TookMS = i.FinishedAt.Sub(i.CreatedAt).Milliseconds()
			}
			list = append(list, r)
		}
		return nil
	})
	return list, err
}

// syncOf returns a sync that the caller may see, because of its zone or because it asked for it, with the zone and the account. One that it may not
// see is as if it were not there.
func syncOf(tx *store.Tx, by access.Caller, id uint64) (row store.Sync, zone dnsname.Name, account string, err error) {
	if row, err = tx.SyncByID(id); err != nil {
		return row, zone, "", err
	}
	p, err := zones.PlacementByID(tx, row.PlacementID)
	if err != nil {
		return row, zone, "", err
	}
	z, err := zones.ByID(tx, p.ZoneID)
	if err != nil {
		return row, zone, "", err
	}
	if !access.May(by, access.See, access.Zone(z.Name())).Allowed && row.RequestedBy != by.Name {
		return row, zone, "", fmt.Errorf("sync %d: %w", id, store.ErrNotFound)
	}
	a, err := accounts.ByID(tx, p.AccountID)
	return row, z.Name(), a.Name, err
}

// Sync shows one sync.
func (s *Overview) Sync(ctx context.Context, by access.Caller, id uint64) (v wire.SyncView, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		row, zone, account, err := syncOf(tx, by, id)
		if err == nil {
			v = *sync.ViewSync(row, zone, account)
		}
		return err
	})
	return v, err
}

// Syncs returns the last syncs of a zone at all of its placements, newest first.
func (s *Overview) Syncs(ctx context.Context, by access.Caller, name dnsname.Name) (list []wire.SyncView, err error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return nil, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		list = []wire.SyncView{}
		z, err := zones.ByName(tx, name)
		if err != nil {
			return err
		}
		syncs, err := tx.SyncsOfZone(z.ID)
		if err != nil {
			return err
		}
		accounts, err := accountsOf(tx, z.ID)
		if err != nil {
			return err
		}
		for _, row := range syncs {
			list = append(list, *sync.ViewSync(row, z.Name(), accounts[row.PlacementID]))
		}
		return nil
	})
	return list, err
}

// accountsOf returns the names of the accounts of a zone's placements, by placement.
func accountsOf(tx *store.Tx, zoneID uint64) (map[uint64]string, error) {
	placements, err := zones.Placements(tx, zoneID)
	if err != nil {
		return nil, err
	}
	names := map[uint64]string{}
	for _, p := range placements {
		a, err := accounts.ByID(tx, p.AccountID)
		if err != nil {
			return nil, err
		}
		names[p.ID] = a.Name
	}
	return names, nil
}
