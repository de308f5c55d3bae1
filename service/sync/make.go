package sync

import (
	"context"
	"fmt"
	"time"

	"beacon/clock"
	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/provider"
	"beacon/service/accounts"
	"beacon/service/acts"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// findZone looks for a zone at the account of a placement. A list of the account's zones serves for as long as kept says, real time.
func (s *Syncs) findZone(ctx context.Context, p Place, kept time.Duration) (provider.Zone, bool, error) {
	ctx, cancel := context.WithTimeout(ctx, 4*s.timeout) // a list of several pages
	defer cancel()
	caps, err := p.Driver.Describe(ctx, provider.ZoneRef{Name: p.Zone.Name()})
	if err != nil {
		return provider.Zone{}, false, err
	}
	if caps.FixedZones {
		return provider.FindZone(ctx, p.Driver, p.Zone.Name())
	}
	return s.zoneLists.Of(p.Account.ID).Find(ctx, p.Driver, p.Zone.Name(), s.store.Now(), kept)
}

// ensureZone finds or makes the zone at the provider. Making one is an act: where it broke off, it is waited out and looked for, so
// that there is one zone and not two.
func (s *Syncs) ensureZone(ctx context.Context, run *syncRun) error {
	if run.Placement.RemoteID != "" {
		return nil
	}
	if err := s.recoverMaking(ctx, run); err != nil {
		return err
	}
	zone, there, err := s.findZone(ctx, run.Place, accounts.ZonesKept)
	if err == nil && there && !run.Caps.FixedZones && s.gone(ctx, run.Place, zone) { // what has fixed zones was asked just now
		zone, there, err = s.findZone(ctx, run.Place, 0)
	}
	if err == nil && !there {
		zone, err = s.makeZone(ctx, run)
	}
	if err != nil {
		return err
	}
	run.Placement.RemoteID = zone.Ref.ID
	prefilled, err := s.prefilled(ctx, run)
	if err != nil {
		return err
	}
	name := run.Zone.Name()
	return s.store.Tx(ctx, func(tx *store.Tx) error {
		if err := run.hold(tx); err != nil {
			return err
		}
		if err := zones.SetRemote(tx, run.Placement.ID, zone.Ref.ID, zone.Nameservers); err != nil {
			return err
		}
		if err := s.observer.Made(tx, run.Zone.ID); err != nil {
			return err
		}
		if err := tx.SetPlaced(run.Placement.ID, prefilled); err != nil {
			return err
		}
		if run.made && run.Caps.Granularity == change.ByZone { // nobody else has put anything there
			if err := tx.SetOthers(run.Placement.ID, record.Contents{}); err != nil {
				return err
			}
		}
		return logbook.Log(tx, run.sync.RequestedBy, "zone.created", name.String(), fmt.Sprintf("at %s, nameservers %v", run.Account.Name, zone.Nameservers))
	})
}

// gone reports whether a zone of the account's list, which may be a little old, is not there any more.
func (s *Syncs) gone(ctx context.Context, p Place, zone provider.Zone) bool {
	reading, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	_, err := p.Driver.Read(reading, zone.Ref, provider.ReadFrom{})
	return outcall.KindOf(err) == outcall.NotFound
}

// recoverMaking finds out what became of requests of this sync that were to make the zone.
func (s *Syncs) recoverMaking(ctx context.Context, run *syncRun) error {
	var sent []store.Act
	if err := s.store.Tx(ctx, func(tx *store.Tx) (err error) {
		if sent, err = acts.OfSync(tx, run.sync.ID); err != nil {
			return err
		}
		open, err := acts.OpenOfPlacement(tx, run.Placement.ID)
		sent = append(sent, open...)
		return err
	}); err != nil {
		return err
	}
	looked := map[uint64]bool{}
	for _, act := range sent {
		if act.Kind != acts.ZoneMade || looked[act.ID] {
			continue
		}
		looked[act.ID] = true
		run.made = run.made || act.State == store.ActDone
		if act.State == store.ActSent {
			if _, _, err := s.becameOfMaking(ctx, run, act, "broken off"); err != nil {
				return err
			}
		}
	}
	return nil
}

// becameOfMaking waits until a request cannot be on its way any more, looks whether the zone is there, and records that.
func (s *Syncs) becameOfMaking(ctx context.Context, run *syncRun, act store.Act, why string) (zone provider.Zone, there bool, err error) {
	if err := clock.Pause(ctx, act.Deadline.Add(run.Caps.ReadLag+run.Caps.CreateLag).Sub(s.store.Now())); err != nil {
		return zone, false, err
	}
	if zone, there, err = s.findZone(ctx, run.Place, 0); err != nil {
		return zone, false, err
	}
	run.made = run.made || there
	state := store.ActNotApplied
	if there {
		state = store.ActDone
	}
	return zone, there, s.closeMaking(ctx, run, act, state, why+"; looked for afterwards")
}

func (s *Syncs) closeMaking(ctx context.Context, run *syncRun, act store.Act, state store.ActState, why string) error {
	return s.store.Tx(context.WithoutCancel(ctx), func(tx *store.Tx) error {
		if err := run.hold(tx); err != nil {
			return err
		}
		if err := acts.Close(tx, act.ID, state, why); err != nil {
			return err
		}
		return logbook.Log(tx, run.sync.RequestedBy, acts.ZoneMade, run.Zone.Name().String(), fmt.Sprintf("sync %d, request %d at %s: %s", run.sync.ID, act.ID, run.Account.Name, state))
	})
}

// makeZone makes the zone, which was not found.
func (s *Syncs) makeZone(ctx context.Context, run *syncRun) (zone provider.Zone, err error) {
	name := run.Zone.Name()
	act, err := s.intend(ctx, run, acts.ZoneMade, map[string]dnsname.Name{"zone": name})
	if err != nil {
		return zone, err
	}
	calling, cancel := outcall.Sending(ctx, act.Deadline.Sub(s.store.Now()), fmt.Sprintf("sync %d", run.sync.ID))
	defer cancel()
	zone, err = run.Driver.Create(calling, name, provider.ZoneOptions{SOA: s.zones.SOA(run.Zone)})
	switch {
	case err == nil:
		run.made = true
		s.zoneLists.Of(run.Account.ID).Add(zone)
		return zone, s.closeMaking(ctx, run, act, store.ActDone, "")
	case outcall.OutcomeOf(err) == outcall.Unclear:
		found, there, lookErr := s.becameOfMaking(ctx, run, act, err.Error())
		if lookErr != nil || there {
			return found, lookErr
		}
		return zone, err
	}
	if closeErr := s.closeMaking(ctx, run, act, store.ActNotApplied, err.Error()); closeErr != nil {
		return zone, closeErr
	}
	if outcall.KindOf(err) != outcall.Conflict {
		return zone, err
	}
	zone, there, err := s.findZone(ctx, run.Place, 0) // it was made since the list was read
	if err == nil && !there {
		err = wire.Problemf(wire.Blocked, "The provider says that %s is there already, and does not list it: another customer of its may have it.", name.Unicode())
	}
	return zone, err
}

// prefilled returns what a provider put into a zone that was just made for us. It counts as placed by us, so that it goes
// where it is not desired.
func (s *Syncs) prefilled(ctx context.Context, run *syncRun) (sets []store.PlacedSet, err error) {
	if !run.made || !run.Caps.Prefills {
		return nil, nil
	}
	run.wrote(s.store.Now())
	state, err := s.readLive(ctx, &run.Place)
	for set := range state.Contents.Sets() {
		sets = append(sets, store.PlacedSet{Sent: set, Read: set})
	}
	return sets, err
}
