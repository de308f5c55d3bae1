package sync

import (
	"cmp"
	"context"
	"fmt"

	"beacon/core/access"
	"beacon/core/diff"
	"beacon/core/wording"
	"beacon/service/accounts"
	"beacon/service/acts"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// StartSync asks for a sync of each placement and returns; the work is done in the background. A placement whose last
// sync has not ended is in the way: two are never interleaved.
func (s *Syncs) StartSync(ctx context.Context, by access.Caller, r wire.SyncRequest) (list []wire.SyncView, err error) {
	if err := wire.Permit(by, access.Sync, access.Zone(r.Zone)); err != nil {
		return nil, err
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) (err error) { list, err = s.Start(by, tx, r); return err })
	s.jobs.Wake(store.JobSync)
	return list, err
}

// Start is StartSync within a transaction.
func (s *Syncs) Start(by access.Caller, tx *store.Tx, r wire.SyncRequest) ([]wire.SyncView, error) {
	list := []wire.SyncView{}
	z, err := zones.Lock(tx, r.Zone)
	if err != nil {
		return nil, err
	}
	if z.RevisionID == nil {
		return nil, wire.Problemf(wire.Blocked, "Zone %s has no desired records yet. Import a zone file or apply a definition first.", r.Zone.Unicode())
	}
	retiring, err := acts.Unfinished(tx, z.Name().String(), wire.ActRetire)
	if err != nil {
		return nil, err
	}
	placements, err := zones.Placements(tx, z.ID)
	if err != nil {
		return nil, err
	}
	for _, p := range placements {
		a, err := accounts.ByID(tx, p.AccountID)
		if err != nil {
			return nil, err
		}
		if r.Account != "" && a.Name != r.Account {
			continue
		}
		if retiring.ID != 0 && retiring.AccountID == p.AccountID {
			return nil, wire.Problemf(wire.Blocked, "Act %d removes %s from %s. Wait until it ends: beacon act show %d.", retiring.ID, r.Zone, a.Name, retiring.ID)
		}
		running, err := tx.UnfinishedSync(p.ID)
		if err != nil {
			return nil, err
		}
		if running.ID != 0 {
			return nil, wire.Problemf(wire.Blocked, "Sync %d of %s at %s is still %s. Wait for it (beacon sync --follow %d), then ask again.", running.ID, r.Zone, a.Name, running.State, running.ID)
		}
		n := store.Sync{PlacementID: p.ID, RevisionID: *z.RevisionID, Drift: driftPolicy(r.Revert), Expected: r.Expect, RequestedBy: by.Name}
		if err := tx.AddSync(&n, r.Allow); err != nil {
			return nil, err
		}
		if err := logbook.Log(tx, by.Name, "sync.requested", r.Zone.String(), fmt.Sprintf("sync %d at %s", n.ID, a.Name)); err != nil {
			return nil, err
		}
		list = append(list, *ViewSync(n, r.Zone, a.Name))
	}
	if len(list) == 0 {
		return nil, wire.Problemf(wire.Blocked, "Zone %s is not placed at %s. Name the account in its definition: providers: [ACCOUNT].", r.Zone.Unicode(), cmp.Or(r.Account, "any provider"))
	}
	return list, nil
}

// Unsynced returns the names of the accounts at which a zone's present revision has still to be written.
func Unsynced(tx *store.Tx, zoneID uint64) ([]string, error) { return tx.Unsynced(zoneID) }

func driftPolicy(revert bool) diff.DriftPolicy {
	if revert {
		return diff.RevertDrift
	}
	return diff.LeaveDrift
}

// Cancel ends a sync that has not ended. A request that is under way is not called back: the next sync of the placement waits until
// its outcome can be seen.
func (s *Syncs) Cancel(ctx context.Context, by access.Caller, id uint64, reason string) error {
	return s.logbook.Tx(ctx, func(tx *store.Tx) error {
		row, err := tx.SyncByID(id)
		if err != nil {
			return err
		}
		p, err := zones.PlacementByID(tx, row.PlacementID)
		if err != nil {
			return err
		}
		z, err := zones.ByID(tx, p.ZoneID)
		if err != nil {
			return err
		}
		if !access.May(by, access.See, access.Zone(z.Name())).Allowed && row.RequestedBy != by.Name {
			return fmt.Errorf("sync %d: %w", id, store.ErrNotFound)
		}
		if err := wire.Permit(by, access.Sync, access.Zone(z.Name())); err != nil {
			return err
		}
		if row.State.Ended() {
			return wire.Problemf(wire.Blocked, "Sync %d has ended: %s. Nothing changed.", id, row.State)
		}
		kind := store.JobSync
		if row.Scope == store.ScopeHosts {
			kind = store.JobUrgent
		}
		if err := jobs.Cancel(tx, kind, id); err != nil {
			return err
		}
		who := by.Name
		message := "Cancelled by " + who + "."
		if reason != "" {
			message = "Cancelled by " + who + ": " + reason
		}
		if row.Requests > 0 {
			message += fmt.Sprintf(" %s written before that stay at the provider.", wording.Counted(row.Added+row.Changed+row.Removed, "record set"))
		}
		if err := tx.EndSync(row, store.SyncCancelled, message, nil); err != nil {
			return err
		}
		return logbook.Log(tx, who, "sync.cancelled", z.Name().String(), fmt.Sprintf("sync %d: %s", id, message))
	})
}
