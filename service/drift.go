package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"beacon/core/definition"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/provider"
	"beacon/service/accounts"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// DriftSettings say how often the live state is looked at for changes that were made elsewhere, wall time.
type DriftSettings struct {
	Every time.Duration `yaml:"every"` // 0 for never
}

// atOnce is how many placements of one account are looked at side by side.
const atOnce = 4

// scheduleLooks makes sure that every provider account is looked at in time.
func (s *Service) scheduleLooks(ctx context.Context) error {
	if s.settings.Drift.Every == 0 {
		return nil
	}
	return s.store.Tx(ctx, func(tx *store.Tx) error {
		list, err := accounts.Providers(tx)
		if err != nil {
			return err
		}
		for _, a := range list {
			if err := jobs.EnqueueIn(tx, store.JobLook, a.ID, a.ID, s.wall.Now()); err != nil {
				return err
			}
		}
		return nil
	})
}

// runLook looks at the placements of an account that have not been looked at for a while, those longest ago first, and
// asks to be called again.
func (s *Service) runLook(ctx context.Context, job store.Job) error {
	every := s.settings.Drift.Every
	before := s.wall.Now().Add(-every * 9 / 10)
	if every == 0 { // only those that somebody wants to be looked at
		before = time.Unix(0, 0)
	}
	var places []place
	err := s.store.Tx(ctx, func(tx *store.Tx) error {
		places = nil
		a, err := accounts.ByID(tx, job.Subject)
		if err != nil {
			return err
		}
		list, err := tx.PlacementsToLook(a.ID, before)
		if err != nil {
			return err
		}
		for _, l := range list {
			places = append(places, place{zone: l.Zone, placement: l.Placement, account: a})
		}
		return nil
	})
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
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if every == 0 {
		return nil
	}
	return jobs.Later{At: s.wall.Now().Add(max(every/10, time.Second)), MadeWay: true}
}

// look compares one placement and does what its zone says about changes made elsewhere. What goes wrong is kept with the
// placement, and told in the logbook when it is new.
func (s *Service) look(ctx context.Context, p place) {
	err := s.connect(ctx, &p)
	var c comparison
	if err == nil {
		c, err = s.compare(ctx, p, *p.zone.RevisionID, diff.LeaveDrift)
	}
	if err == nil {
		err = s.answerDrift(ctx, p, c)
	}
	if w, ok := p.driver.(provider.Watcher); ok && err == nil {
		if behind := w.Behind(ctx, p.ref()); len(behind) > 0 {
			err = wire.Problemf(wire.InTheWay, "Not every nameserver has it: %s.", strings.Join(behind, "; "))
		}
	}
	if err == nil || ctx.Err() != nil {
		return
	}
	trouble := logbook.Explain(err).Error()
	keepErr := s.store.Tx(ctx, func(tx *store.Tx) error {
		if p.placement.Standing != store.Unreachable {
			if err := logbook.Log(tx, "service", "placement.unreachable", p.zone.Name().String(), "at "+p.account.Name+": "+trouble); err != nil {
				return err
			}
		}
		return tx.SetLooked(p.placement.ID, store.Looked{Standing: store.Unreachable, Trouble: trouble})
	})
	if keepErr != nil {
		s.log.Error("what a look showed could not be kept", "zone", p.zone.Name(), "error", keepErr)
	}
}

// looked keeps what a comparison showed, and tells of drift that is new.
func (s *Service) looked(ctx context.Context, p place, c comparison) error {
	r := c.result
	l := store.Looked{Standing: store.InStep, ToWrite: len(r.Steps), Drifted: len(r.Drift), Conflicting: len(r.Conflicts), Foreign: len(r.Foreign)}
	switch {
	case l.Drifted+l.Conflicting > 0:
		l.Standing = store.Drifted
	case l.ToWrite > 0:
		l.Standing = store.ToWrite
	}
	was := p.placement
	caps, err := json.Marshal(p.caps)
	if err != nil {
		return err
	}
	if was.Caps == nil || *was.Caps != string(caps) {
		l.Caps = string(caps)
	}
	return s.store.Tx(ctx, func(tx *store.Tx) error {
		if l.Drifted > was.Drifted || l.Conflicting > was.Conflicting {
			detail := fmt.Sprintf("at %s: %s changed elsewhere", p.account.Name, wording.Counted(l.Drifted+l.Conflicting, "record set"))
			if err := logbook.Log(tx, "service", "placement.drifted", p.zone.Name().String(), detail); err != nil {
				return err
			}
		}
		return tx.SetLooked(was.ID, l)
	})
}

// answerDrift does what the zone's definition says about changes made elsewhere.
func (s *Service) answerDrift(ctx context.Context, p place, c comparison) error {
	if len(c.result.Drift) == 0 {
		return nil
	}
	var err error
	switch p.zone.Care().Drift {
	case definition.DriftPutBack:
		_, err = s.StartSync(ctx, wire.SyncRequest{Zone: p.zone.Name(), Account: p.account.Name, PutBack: true})
	case definition.DriftAdopt:
		_, err = s.Adopt(ctx, p.zone.Name(), p.account.Name)
	}
	var known *wire.Problem
	if errors.As(err, &known) && known.Kind == wire.InTheWay { // a sync is under way, or the zone is led by a file
		s.Logbook.Note(ctx, "placement.drift-kept", p.zone.Name().String(), known.Message)
		return nil
	}
	return err
}

// Adopt makes what somebody changed at an account what the zone should contain.
func (s *Service) Adopt(ctx context.Context, name dnsname.Name, account string) (taken []diff.Item, err error) {
	places, err := s.placesOf(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, p := range places {
		if p.account.Name != account {
			continue
		}
		if p.zone.RevisionID == nil || p.placement.RemoteID == "" {
			return nil, wire.Problemf(wire.InTheWay, "Zone %s is not at %s yet.", name.Unicode(), account)
		}
		c, err := s.compare(ctx, p, *p.zone.RevisionID, diff.LeaveDrift)
		if err != nil {
			return nil, logbook.Explain(err)
		}
		items := append(append([]diff.Item{}, c.result.Drift...), c.result.Conflicts...)
		if len(items) == 0 {
			return nil, wire.Problemf(wire.InTheWay, "Nothing of %s was changed at %s: there is nothing to adopt.", name.Unicode(), account)
		}
		return items, s.adopt(ctx, p, items)
	}
	return nil, wire.Problemf(wire.Missing, "Zone %s is not placed at %s.", name.Unicode(), account)
}

func (s *Service) adopt(ctx context.Context, p place, items []diff.Item) error {
	return s.Logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := tx.LockZone(p.zone.Name())
		if err != nil {
			return err
		}
		if *z.RevisionID != *p.zone.RevisionID {
			return wire.Problemf(wire.InTheWay, "What %s should contain was changed meanwhile. Look at it again, then adopt.", z.Name().Unicode())
		}
		wanted, err := tx.Contents(*z.RevisionID)
		if err != nil {
			return err
		}
		var placed []store.PlacedSet
		var gone []record.Key
		for _, item := range items {
			if item.Live.IsZero() {
				wanted = wanted.Without(item.Key)
				gone = append(gone, item.Key)
				continue
			}
			wanted = wanted.With(item.Live)
			placed = append(placed, store.PlacedSet{Sent: item.Live, Read: item.Live})
		}
		if _, _, err := s.Zones.Revise(ctx, tx, z, zones.Accepted{Contents: wanted, Source: "adopted from " + p.account.Name, Why: "changed at " + p.account.Name}); err != nil {
			return err
		}
		if err := tx.SetPlaced(p.placement.ID, placed); err != nil {
			return err
		}
		if err := tx.ForgetPlaced(p.placement.ID, gone); err != nil {
			return err
		}
		return logbook.Log(tx, logbook.Actor(ctx), "drift.adopted", z.Name().String(), fmt.Sprintf("%s from %s", wording.Counted(len(items), "record set"), p.account.Name))
	})
}

// Standings gives how every placement stands, as it was seen last: of one zone, or of all.
func (s *Service) Standings(ctx context.Context) (list []wire.PlacementStanding, err error) {
	err = s.Logbook.Tx(ctx, func(tx *store.Tx) error {
		list = []wire.PlacementStanding{}
		rows, err := tx.Standings()
		if err != nil {
			return err
		}
		for _, r := range rows {
			list = append(list, wire.PlacementStanding{Zone: r.Zone.Name(), Account: r.AccountName, PlacementState: stateOf(r.Placement)})
		}
		return nil
	})
	return list, err
}

func stateOf(p store.Placement) wire.PlacementState {
	return wire.PlacementState{Standing: wire.Standing(p.Standing), ToWrite: p.ToWrite, Drifted: p.Drifted, Conflicting: p.Conflicting, Foreign: p.Foreign, Trouble: p.Trouble, LookedAt: p.LookedAt}
}
