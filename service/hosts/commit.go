package hosts

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"beacon/core/access"
	"beacon/core/dynaddr"
	"beacon/store"
)

// pending is a report that waits for its commit.
type pending struct {
	by               access.Caller
	report           AddressReport
	location, uplink uint64
	at               time.Time // real time

	update *signed // that the report comes as; nil for one by HTTP

	place *place // as it was remembered when the report came; nil where it was not
	taken taken  // what the report made of that

	done     bool
	decision dynaddr.Decision
	err      error
}

// committer commits reports: the first immediately, and those that arrive meanwhile together. It is safe for concurrent use.
type committer struct {
	turn sync.Mutex // held while a commit goes on

	mu      sync.Mutex
	waiting []*pending
}

// mostTogether bounds how many reports share a commit.
const mostTogether = 256

var errBroken = errors.New("the commit of the report broke off")

// longestCommit bounds a commit, real time.
const longestCommit = 20 * time.Second

// commit stores a report, with those that wait beside it.
func (s *Hosts) commit(ctx context.Context, one *pending) {
	c := &s.committer
	c.mu.Lock()
	c.waiting = append(c.waiting, one)
	c.mu.Unlock()
	c.turn.Lock()
	defer c.turn.Unlock()
	for first := true; !one.done; first = false {
		c.mu.Lock()
		batch := slices.Clone(c.waiting[:min(len(c.waiting), mostTogether)])
		c.waiting = c.waiting[len(batch):]
		c.mu.Unlock()
		if len(batch) == 0 { // the commit that it was in broke
			one.err = errBroken
			return
		}
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), longestCommit)
		if !first || len(batch) > 1 || !s.commitAlone(ctx, one) {
			s.commitTogether(ctx, batch)
		}
		cancel()
	}
}

// commitAlone stores a report that moves hosts, and does nothing else, in one statement. It returns false where that cannot be.
func (s *Hosts) commitAlone(ctx context.Context, one *pending) bool {
	p, t := one.place, one.taken
	if p == nil || t.judged.Outcome != dynaddr.Accepted || !t.next.IsZero() {
		return false
	}
	for _, c := range t.changes {
		if c.Was != c.Is && (!c.Moved() || c.Was.Silent != c.Is.Silent) {
			return false
		}
	}
	p.uplinks[t.index] = t.row
	one.decision = t.answer()
	moved, err := s.carry(nil, p, t.decided, one.row(t))
	if err != nil || len(moved) == 0 {
		return false
	}
	is, err := s.store.AcceptAlone(ctx, p.Version, t.row, moved)
	if err != nil || !is {
		return false
	}
	p.Version++
	p.arrived = false
	s.memory.put(*p)
	one.done = true
	s.spreadSoon()
	return true
}

// row returns what is kept of a report.
func (one *pending) row(t taken) store.Report {
	return store.Report{Reason: one.decision.Reason, V4: textOf(t.report.V4), V6: textOf(t.report.V6), Peer: textOf(one.report.Peer), Uplink: t.name, ReportedAt: one.at, Actor: one.by.Name}
}

// judge judges a report by what is remembered of its location.
func (one *pending) judge(s *Hosts, p place) {
	one.place = &p
	one.taken = s.take(one.place, one.uplink, one.by, one.report, s.world.Now())
}

// commitTogether stores reports. Where they cannot be stored together, each is stored by itself, so that none is lost by another one's fault.
func (s *Hosts) commitTogether(ctx context.Context, batch []*pending) {
	err := s.commitAll(ctx, batch)
	if err != nil && len(batch) > 1 && !store.IsAway(err) {
		for _, one := range batch {
			one.err = s.commitAll(ctx, []*pending{one})
		}
	} else {
		for _, one := range batch {
			one.err = err
		}
	}
	for _, one := range batch {
		one.done = true
	}
}

// commitAll stores reports in one transaction.
func (s *Hosts) commitAll(ctx context.Context, batch []*pending) error {
	var ids []uint64
	for _, one := range batch {
		ids = append(ids, one.location)
	}
	slices.Sort(ids)
	ids = slices.Compact(ids)
	var places map[uint64]*place
	accepted := 0
	err := s.logbook.Tx(ctx, func(tx *store.Tx) (err error) {
		if places, err = s.lockPlaces(tx, ids); err != nil {
			return err
		}
		now := s.world.Now()
		dirty := map[uint64]store.Uplink{}
		var moved []store.Acceptance
		for _, one := range batch {
			p := places[one.location]
			if p == nil || !slices.ContainsFunc(p.uplinks, func(u store.Uplink) bool { return u.ID == one.uplink }) {
				one.decision = dynaddr.Decision{Outcome: dynaddr.Refused, Reason: "the uplink was removed"}
				continue
			}
			more, changed, err := s.commitOne(tx, p, one, now)
			if err != nil {
				return err
			}
			moved = append(moved, more...)
			if changed {
				i := slices.IndexFunc(p.uplinks, func(u store.Uplink) bool { return u.ID == one.uplink })
				dirty[one.uplink] = p.uplinks[i]
			}
		}
		accepted = len(moved)
		if err := tx.AcceptReports(moved); err != nil {
			return err
		}
		return s.saveUplinks(tx, dirty, places)
	})
	if err != nil {
		return err
	}
	for _, p := range places {
		s.memory.put(*p)
	}
	if accepted > 0 {
		s.spreadSoon()
	}
	return nil
}

// lockPlaces locks locations and returns them, as they are remembered where nothing has changed about them.
func (s *Hosts) lockPlaces(tx *store.Tx, ids []uint64) (map[uint64]*place, error) {
	versions, seen, err := tx.LockLocations(ids)
	if err != nil {
		return nil, err
	}
	places := map[uint64]*place{}
	for id, version := range versions {
		p, ok := s.memory.get(id, version)
		if !ok {
			if p, err = placeAt(tx, id, false); err != nil {
				return nil, err
			}
		}
		for i, u := range p.uplinks {
			if at := seen[u.ID]; at.After(p.lines.List[i].Seen) { // another instance heard of it
				p.lines.List[i].Seen, p.uplinks[i].SeenAt = at, &at
			}
		}
		places[id] = &p
	}
	return places, nil
}

// commitOne takes one report in the transaction of its batch, and returns the hosts that move by it. changed reports whether the uplink is to be stored.
func (s *Hosts) commitOne(tx *store.Tx, p *place, one *pending, now time.Time) (moved []store.Acceptance, changed bool, err error) {
	if one.update != nil {
		if done, err := s.readUpdate(tx, p, one); done || err != nil {
			return nil, false, err
		}
	}
	t := s.take(p, one.uplink, one.by, one.report, now)
	one.decision = t.answer()
	if one.update != nil {
		if err := one.update.answer(tx, one.decision); err != nil {
			return nil, false, err
		}
	}
	row := one.row(t)
	switch {
	case t.judged.Outcome == dynaddr.Refused:
		return nil, true, s.refuse(tx, p, t, row)
	case t.still():
		p.uplinks[t.index] = t.row
		s.saw(store.Seen{Uplink: one.uplink, At: now, ReportedAt: one.at, From: row.Peer})
		return nil, false, s.pursue(tx, p)
	}
	p.uplinks[t.index] = t.row
	if t.judged.Outcome == dynaddr.Held {
		if err := s.noteHeld(tx, *p, row); err != nil {
			return nil, false, err
		}
	}
	if err := s.foresee(tx, p, t.decided, now); err != nil {
		return nil, false, err
	}
	moved, err = s.carry(tx, p, t.decided, row)
	if len(moved) > 0 {
		p.arrived = false
	}
	return moved, true, err
}

// saveUplinks stores uplinks about which something changed, and counts the versions of their locations on, in what is remembered too.
func (s *Hosts) saveUplinks(tx *store.Tx, dirty map[uint64]store.Uplink, places map[uint64]*place) error {
	var list []store.Uplink
	touched := map[uint64]bool{}
	for _, u := range dirty {
		list = append(list, u)
		touched[u.LocationID] = true
	}
	if len(list) == 0 {
		return nil
	}
	slices.SortFunc(list, func(a, b store.Uplink) int { return int(int64(a.ID) - int64(b.ID)) })
	for id := range touched {
		places[id].Version++
	}
	return tx.SaveUplinks(list)
}

// memory remembers locations as they were when this instance read them last. It is safe for concurrent use.
type memory struct {
	mu  sync.Mutex
	all map[uint64]place
}

// mostRemembered bounds how many locations are remembered.
const mostRemembered = 50_000

// get returns a copy of a location, if that version of it is remembered.
func (m *memory) get(id, version uint64) (place, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	p, ok := m.all[id]
	if !ok || p.Version != version || id == 0 {
		return place{}, false
	}
	return p.clone(), true
}

func (m *memory) put(p place) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.all == nil || len(m.all) > mostRemembered {
		m.all = map[uint64]place{}
	}
	m.all[p.ID] = p
}

// saw remembers that an uplink reported what was known.
func (m *memory) saw(p place, uplink int, at time.Time) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if kept, ok := m.all[p.ID]; ok && kept.Version == p.Version {
		kept = kept.clone()
		kept.lines.List[uplink].Seen, kept.uplinks[uplink].SeenAt = at, &at
		m.all[p.ID] = kept
	}
}
