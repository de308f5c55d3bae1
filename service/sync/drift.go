package sync

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/outcall"
	"beacon/provider"
	"beacon/service/accounts"
	"beacon/service/acts"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// DriftSettings say how often the live state is looked at for changes that were made elsewhere, real time.
type DriftSettings struct {
	Every time.Duration `yaml:"every"` // 0 for never
}

// atOnce is how many placements of one account are looked at side by side.
const atOnce = 4

// ScheduleLooks makes sure that every provider account is looked at in time.
func (s *Syncs) ScheduleLooks(ctx context.Context) error {
	if s.every == 0 {
		return nil
	}
	return s.store.Tx(ctx, func(tx *store.Tx) error {
		list, err := accounts.Providers(tx)
		if err != nil {
			return err
		}
		for _, a := range list {
			if err := jobs.EnqueueIn(tx, store.JobLook, a.ID, a.ID, s.store.Now()); err != nil {
				return err
			}
		}
		return nil
	})
}

// RunLook looks at the placements of an account that have not been looked at for a while, those longest ago first, and
// asks to be called again.
func (s *Syncs) RunLook(ctx context.Context, job store.Job) error {
	if err := s.lookAll(ctx, job, s.store.Now().Add(-s.every*9/10)); err != nil {
		return err
	}
	return jobs.Later{At: s.store.Now().Add(max(s.every/10, time.Second)), Worked: true}
}

// RunLookOnce looks at the placements of an account for which that was asked.
func (s *Syncs) RunLookOnce(ctx context.Context, job store.Job) error {
	return s.lookAll(ctx, job, time.Unix(0, 0))
}

// lookAll looks at the placements of an account that were last looked at before the given real time. Nothing is asked of an account that
// is not reached: its probe says when that is over.
func (s *Syncs) lookAll(ctx context.Context, job store.Job, before time.Time) error {
	var places []Place
	err := s.store.Tx(ctx, func(tx *store.Tx) error {
		places = nil
		a, err := accounts.ByID(tx, job.Subject)
		if err != nil {
			return err
		}
		if err := accounts.Away(tx, a); err != nil {
			return err
		}
		list, err := tx.PlacementsToLook(a.ID, before)
		if err != nil {
			return err
		}
		for _, l := range list {
			places = append(places, Place{Zone: l.Zone, Placement: l.Placement, Account: a})
		}
		return nil
	})
	if store.IsMissing(err) || outcall.Passing(err) {
		return nil
	}
	if err != nil {
		return err
	}
	var group errgroup.Group
	group.SetLimit(atOnce)
	for _, p := range places {
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error { s.look(ctx, p); return nil })
	}
	_ = group.Wait()
	return context.Cause(ctx)
}

// LookSoon has the live state of a zone at an account looked at now, and reports whether it is placed there.
func (s *Syncs) LookSoon(ctx context.Context, name dnsname.Name, a store.Account) (there bool) {
	err := s.store.Tx(ctx, func(tx *store.Tx) error {
		there = false
		z, err := zones.ByName(tx, name)
		if err != nil {
			return err
		}
		list, err := zones.Placements(tx, z.ID)
		if err != nil {
			return err
		}
		for _, p := range list {
			if p.AccountID == a.ID {
				there = true
				if err := tx.LookNow(p.ID); err != nil {
					return err
				}
			}
		}
		if !there {
			return nil
		}
		return jobs.EnqueueIn(tx, store.JobLookOnce, a.ID, a.ID, s.store.Now())
	})
	if err != nil {
		return false
	}
	s.jobs.Wake(store.JobLookOnce)
	return there
}

// look compares one placement and does what its zone says about changes made elsewhere. What goes wrong is kept with the
// placement, and told in the logbook when it is new.
func (s *Syncs) look(ctx context.Context, p Place) {
	err := s.connect(ctx, &p)
	var c comparison
	if err == nil {
		c, err = s.believe(ctx, &p, lookPatience, func() (comparison, error) { return s.compare(ctx, p, *p.Zone.RevisionID, diff.LeaveDrift) })
	}
	if err == nil {
		err = s.looked(ctx, p, c)
	}
	if err == nil {
		err = s.answerDrift(ctx, p, c)
	}
	if w, ok := p.Driver.(provider.Watcher); ok && err == nil {
		if behind := w.Behind(ctx, p.Ref()); len(behind) > 0 {
			err = wire.Problemf(wire.Blocked, "Not every nameserver has it: %s.", strings.Join(behind, "; "))
		}
	}
	if err == nil || ctx.Err() != nil {
		return
	}
	trouble, standing, action := logbook.Explain(err).Error(), store.Unreachable, "placement.unreachable"
	var doubted errUnconfirmed
	if errors.As(err, &doubted) {
		standing, action = store.Unconfirmed, "placement.unconfirmed"
	}
	keepErr := s.store.Tx(ctx, func(tx *store.Tx) error {
		if p.Placement.State != standing {
			if err := logbook.Log(tx, "service", action, p.Zone.Name().String(), "at "+p.Account.Name+": "+trouble); err != nil {
				return err
			}
		}
		return tx.SetLooked(p.Placement.ID, store.Looked{State: standing, Trouble: trouble})
	})
	if keepErr != nil {
		s.log.Error("what a look showed could not be kept", "zone", p.Zone.Name(), "error", keepErr)
	}
}

// looked keeps what a comparison showed, and tells of drift that is new.
func (s *Syncs) looked(ctx context.Context, p Place, c comparison) error {
	was := p.Placement
	caps, err := json.Marshal(p.Caps)
	if err != nil {
		return err
	}
	return s.store.Tx(ctx, func(tx *store.Tx) error {
		ours, err := s.observer.Ours(tx, was.ID, c.result)
		if err != nil {
			return err
		}
		l := outcomeOf(c.result, ours)
		if was.Caps == nil || *was.Caps != string(caps) {
			l.Caps = string(caps)
		}
		if l.Drifted > was.Drifted || l.Conflicting > was.Conflicting {
			detail := fmt.Sprintf("at %s: %s changed elsewhere", p.Account.Name, wording.Counted(l.Drifted+l.Conflicting, "record set"))
			if l.Ours > 0 {
				detail += fmt.Sprintf(", or by this service before its database went back (%d)", l.Ours)
			}
			if err := logbook.Log(tx, "service", "placement.drifted", p.Zone.Name().String(), detail); err != nil {
				return err
			}
		}
		return tx.SetLooked(was.ID, l)
	})
}

// outcomeOf returns what a comparison showed. Sets that this service wrote, and that the database does not know, are no foreign ones.
func outcomeOf(r diff.Result, ours []record.Key) store.Looked {
	l := store.Looked{State: store.InSync, Pending: len(r.Steps), Drifted: len(r.Drift), Conflicting: len(r.Conflicts), Foreign: len(r.Foreign), Ours: len(ours)}
	for _, item := range r.Foreign {
		if slices.Contains(ours, item.Key) {
			l.Drifted, l.Foreign = l.Drifted+1, l.Foreign-1
		}
	}
	switch {
	case l.Drifted+l.Conflicting > 0:
		l.State = store.Drifted
	case l.Pending > 0:
		l.State = store.Pending
	}
	return l
}

// revertPause is how long changes made elsewhere are left alone after a sync that was to revert them did not end well, real time.
const revertPause = 10 * time.Minute

// answerDrift does what the zone's settings say about changes made elsewhere. Where something is in the way, that is kept with the
// placement, and logged when it is new.
func (s *Syncs) answerDrift(ctx context.Context, p Place, c comparison) error {
	if len(c.result.Drift) == 0 {
		return nil
	}
	err := s.store.Tx(ctx, func(tx *store.Tx) error { return acts.CheckHold(tx, acts.PlacementLock(p.Placement.ID)) })
	if errors.Is(err, acts.ErrHeld) { // what is outside may be newer
		return nil
	}
	if err != nil {
		return err
	}
	switch p.Zone.ZoneSettings().Drift {
	case definition.DriftRevert:
		err = s.revert(ctx, p)
	case definition.DriftAdopt:
		err = s.adopt(ctx, access.Service, p, append(append([]diff.Item{}, c.result.Drift...), c.result.Conflicts...), nil)
	}
	var known *wire.Problem
	if !errors.As(err, &known) || known.Kind != wire.Blocked { // a sync is under way, a file manages the zone, or a guard blocks
		return err
	}
	return s.store.Tx(ctx, func(tx *store.Tx) error {
		if p.Placement.Trouble != known.Message {
			if err := logbook.Log(tx, "service", "placement.drift-unresolved", p.Zone.Name().String(), known.Message); err != nil {
				return err
			}
		}
		return tx.SetTrouble(p.Placement.ID, known.Message)
	})
}

// revert starts a sync that reverts changes made elsewhere, unless one has just shown that this does not work.
func (s *Syncs) revert(ctx context.Context, p Place) error {
	var last store.Sync
	err := s.store.Tx(ctx, func(tx *store.Tx) error {
		list, err := tx.Syncs(p.Placement.ID)
		if len(list) > 0 {
			last = list[0]
		}
		return err
	})
	if err != nil {
		return err
	}
	if ended := last.FinishedAt; ended != nil && last.State != store.SyncDone && s.store.Now().Sub(*ended) < revertPause {
		return wire.Problemf(wire.Blocked, "Sync %d did not revert what was changed at %s: %s The next one starts ten minutes after it.", last.ID, p.Account.Name, last.Message)
	}
	_, err = s.StartSync(ctx, access.Service, wire.SyncRequest{Zone: p.Zone.Name(), Account: p.Account.Name, Revert: true})
	return err
}
