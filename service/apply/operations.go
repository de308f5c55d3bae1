package apply

import (
	"context"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// SyncOperation asks for a sync of every zone of an operation.
func (s *Applier) SyncOperation(ctx context.Context, by access.Caller, id uint64) (list []wire.SyncView, err error) {
	var names []dnsname.Name
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		names = nil
		changed, err := zones.OfBulkChange(tx, id)
		if err != nil {
			return err
		}
		for _, z := range changed {
			if err := wire.Permit(by, access.Sync, access.Zone(z.Name())); err != nil {
				return err
			}
			placements, err := zones.Placements(tx, z.ID)
			if err != nil {
				return err
			}
			if len(placements) > 0 {
				names = append(names, z.Name())
			}
		}
		return nil
	})
	list = []wire.SyncView{}
	for _, name := range names {
		if err != nil {
			break
		}
		var started []wire.SyncView
		started, err = s.syncs.StartSync(ctx, by, wire.SyncRequest{Zone: name})
		list = append(list, started...)
	}
	return list, err
}
