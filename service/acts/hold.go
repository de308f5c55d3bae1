package acts

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/store"
	"beacon/wire"
)

// ErrHeld means that nothing is changed outside until a user releases the hold.
var ErrHeld = errors.New("the service is held: it looks, and changes nothing outside until a user releases it (beacon hold show)")

// heldPause is how long held work waits before it looks again, real time; a release wakes it before.
const heldPause = 10 * time.Minute

// CheckHold returns ErrHeld where what some locks are on is held.
func CheckHold(tx *store.Tx, locks ...string) error {
	for _, lock := range locks {
		var placement uint64
		if number, ok := strings.CutPrefix(lock, "placement "); ok {
			placement, _ = strconv.ParseUint(number, 10, 64) // written by PlacementLock
		}
		held, err := tx.Held(placement)
		if err != nil {
			return err
		}
		if held {
			return ErrHeld
		}
	}
	return nil
}

// HeldUntil returns until when work that is held waits.
func HeldUntil(now time.Time) time.Time { return now.Add(heldPause) }

// Hold keeps the service from changing anything outside until a user releases it.
func (a *Acts) Hold(ctx context.Context, by access.Caller, reason string) error {
	if err := wire.Permit(by, access.Operate, access.Everything); err != nil {
		return err
	}
	return a.logbook.Tx(ctx, func(tx *store.Tx) error {
		begun, err := tx.SetHold(reason, by.Name)
		if err != nil || !begun {
			return err
		}
		return logbook.Log(tx, by.Name, "hold.began", "service", reason)
	})
}

// HoldBack is Hold for a database that went back. One in which nothing was ever made at a provider is a new one, and is not held.
func (a *Acts) HoldBack(ctx context.Context, reason string) error {
	made := false
	if err := a.store.Look(ctx, func(tx *store.Tx) (err error) { made, err = tx.AnyMade(); return err }); err != nil || !made {
		return err
	}
	return a.Hold(ctx, access.Service, reason)
}

// ShowHold returns the hold and the placements under it that are not as they were left, or were released.
func (a *Acts) ShowHold(ctx context.Context, by access.Caller) (v wire.Hold, err error) {
	err = a.logbook.Look(ctx, func(tx *store.Tx) error {
		v = wire.Hold{Placements: []wire.HeldPlacement{}}
		h, err := tx.TheHold()
		if err != nil || h == nil {
			return err
		}
		v.Held, v.Since, v.Reason, v.Asked = true, &h.Since, h.Reason, h.Asked
		rows, err := tx.HeldPlacements()
		if err != nil {
			return err
		}
		for _, r := range rows {
			newer := r.Drifted + r.Conflicting
			v.Total++
			switch {
			case r.Released:
				v.Released++
			case r.LookedAt == nil || r.LookedAt.Before(h.Since):
				v.Unseen++
			case newer > 0:
				v.Newer++
			}
			if scope := access.Where(by, access.See); len(v.Placements) < wire.MostHeld && scope.Has(dnsname.FromKey(r.NameKey)) && (r.Released || newer+r.Pending > 0 || r.State != store.InSync) {
				v.Placements = append(v.Placements, wire.HeldPlacement{Zone: dnsname.FromKey(r.NameKey), Account: r.AccountName, Released: r.Released,
					Newer: newer, Ours: r.OurSets, Pending: r.Pending, Looked: r.LookedAt != nil && !r.LookedAt.Before(h.Since), State: wire.PlacementState(r.State), Trouble: r.Trouble})
			}
		}
		return nil
	})
	return v, err
}

// Release ends the hold: for the placements of a zone, at one account where it is named, or for everything.
func (a *Acts) Release(ctx context.Context, by access.Caller, r wire.HoldRelease) (v wire.Hold, err error) {
	if err := wire.Permit(by, access.Operate, access.Everything); err != nil {
		return v, err
	}
	if r.All == !r.Zone.IsZero() {
		return v, wire.Problemf(wire.Invalid, "Name either a zone, or all. Nothing was released.")
	}
	err = a.logbook.Tx(ctx, func(tx *store.Tx) error {
		h, err := tx.TheHold()
		if err != nil {
			return err
		}
		if h == nil {
			return wire.Problemf(wire.Blocked, "Nothing is held.")
		}
		who := by.Name
		if r.All {
			if err := tx.ReleaseAll(); err != nil {
				return err
			}
			if err := logbook.Log(tx, who, "hold.ended", "service", "for everything"); err != nil {
				return err
			}
			return jobs.WakeAll(tx)
		}
		rows, err := tx.HeldPlacements()
		if err != nil {
			return err
		}
		released := 0
		for _, p := range rows {
			if p.NameKey != r.Zone.Key() || r.Account != "" && p.AccountName != r.Account {
				continue
			}
			if err := tx.Release(p.ID); err != nil {
				return err
			}
			if err := logbook.Log(tx, who, "hold.released", r.Zone.String(), fmt.Sprintf("at %s", p.AccountName)); err != nil {
				return err
			}
			released++
		}
		if released == 0 {
			return wire.Problemf(wire.NotFound, "Zone %s has no such placement. Nothing was released.", r.Zone.Unicode())
		}
		return jobs.WakeAll(tx)
	})
	if err != nil {
		return v, err
	}
	a.jobs.Wake(store.JobSync)
	return a.ShowHold(ctx, by)
}
