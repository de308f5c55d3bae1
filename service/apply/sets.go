package apply

import (
	"context"
	"errors"

	"beacon/core/access"
	"beacon/service/jobs"
	"beacon/service/sync"
	"beacon/store"
	"beacon/wire"
)

// PutSet replaces or removes one desired record set, and has the zone synced: both are stored in one transaction. Where a sync is under way,
// the next one starts when it has ended, whatever becomes of the caller.
func (s *Applier) PutSet(ctx context.Context, by access.Caller, r wire.SetRequest) (out wire.SetWritten, err error) {
	if err := wire.Permit(by, access.Edit, access.Set(r.Zone, r.Key)); err != nil {
		return out, err
	}
	if !r.DryRun && !r.NoStart {
		if err := wire.Permit(by, access.Sync, access.Set(r.Zone, r.Key)); err != nil {
			return out, err
		}
	}
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		var z store.Zone
		if z, out, err = s.zones.PutSet(by, tx, r); err != nil || r.DryRun || r.NoStart {
			return err
		}
		accounts, err := sync.Unsynced(tx, z.ID)
		if err != nil {
			return err
		}
		for _, account := range accounts {
			started, err := s.syncs.Start(by, tx, wire.SyncRequest{Zone: r.Zone, Account: account, Allow: r.Allow})
			var p *wire.Problem
			switch {
			case errors.As(err, &p) && p.Kind == wire.Blocked:
				out.Waiting = append(out.Waiting, wire.WaitingSync{Account: account, Problem: p.Message})
			case err != nil:
				return err
			}
			out.Syncs = append(out.Syncs, started...)
		}
		if len(out.Waiting) > 0 {
			return jobs.Enqueue(tx, store.JobFollow, z.ID, s.logbook.Now())
		}
		return nil
	})
	return out, err
}
