package handover

import (
	"context"

	"beacon/core/access"
	"beacon/core/diff"
	"beacon/core/handover"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// lowered reports whether TTLs are lowered at a placement.
func lowered(at store.Placement) bool {
	l := at.LoweredTTLs()
	return !l.Restored && l.NS+l.Negative > 0
}

// lower lowers TTLs, or puts them back, and begins a sync of each side.
func (s *Handover) lower(ctx context.Context, p plan, by access.Caller, do handover.Do) error {
	err := s.logbook.Tx(ctx, func(tx *store.Tx) error {
		if err := lowerIn(tx, p, do); err != nil {
			return err
		}
		return s.syncIn(tx, p, by, do)
	})
	s.jobs.Wake(store.JobSync)
	return err
}

// lowerIn lowers the TTL of the old zone's apex NS set, where that can be written, and that of negative answers of the new zone; or puts both back.
func lowerIn(tx *store.Tx, p plan, do handover.Do) error {
	old, there, err := placementAt(tx, p.ZoneID, p.OldAccount)
	if err != nil {
		return err
	}
	switch {
	case !there:
	case do == handover.DoRestore:
		err = zones.Lower(tx, old.ID, store.LoweredTTLs{Restored: true})
	case p.tells:
		if len(old.ToldSet()) == 0 {
			err = zones.Tell(tx, old.ID, p.course.Old)
		}
		if err == nil {
			err = zones.Lower(tx, old.ID, store.LoweredTTLs{NS: handover.LowNS})
		}
	}
	if err != nil {
		return err
	}
	at, there, err := placementAt(tx, p.ZoneID, p.NewAccount)
	l := at.LoweredTTLs()
	switch {
	case err != nil || !there:
		return err
	case do == handover.DoLower:
		return zones.Lower(tx, at.ID, store.LoweredTTLs{Negative: handover.LowNegative, Was: handover.NegativeOf(p.course.New, p.seen.Sweep)})
	case l.Negative > 0:
		return zones.Lower(tx, at.ID, store.LoweredTTLs{Negative: l.Was, Was: l.Was, Restored: true})
	}
	return nil
}

// restore puts back what is lowered at the placements of a handover that ends before its end.
func (s *Handover) restore(tx *store.Tx, by access.Caller, p plan) error {
	for _, id := range []*uint64{p.OldAccount, p.NewAccount} {
		at, there, err := placementAt(tx, p.ZoneID, id)
		if err != nil {
			return err
		}
		if !there || !lowered(at) {
			continue
		}
		if err := lowerIn(tx, p, handover.DoRestore); err != nil {
			return err
		}
		_, err = s.syncs.Start(by, tx, wire.SyncRequest{Zone: p.zone.Name(), Allow: []string{diff.GuardApex}})
		return err
	}
	return nil
}
