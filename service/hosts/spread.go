package hosts

import (
	"context"
	"slices"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
)

// spreadTogether bounds how many acceptances are spread in one transaction: it keeps others from the placements.
const spreadTogether = 400

// spreadPause is the least time from one spreading to the next, real time; it is at least as long as the last one took, for reports come first. After a while of
// silence nothing waits.
const spreadPause = 80 * time.Millisecond

// How often uplinks that were seen are stored, and how often it is looked for acceptances that another instance did not spread, real time.
const (
	seenEvery = time.Second
	lookEvery = 10 * time.Second
)

// spreadSoon has acceptances spread immediately.
func (s *Hosts) spreadSoon() {
	s.asked.Add(1)
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// Spreads reports whether acceptances of this instance are still to be asked to be written.
func (s *Hosts) Spreads() bool { return s.served.Load() < s.asked.Load() }

// Spread asks for what was accepted to be written, until ctx ends: that is no part of what a client waits for.
func (s *Hosts) Spread(ctx context.Context) {
	ticker := time.NewTicker(seenEvery)
	defer ticker.Stop()
	var last, looked time.Time
	var took time.Duration
	for {
		select {
		case <-ctx.Done():
			if err := s.keepSeen(context.WithoutCancel(ctx)); err != nil {
				s.log.Warn("it could not be kept which hosts reported", "error", err)
			}
			return
		case <-ticker.C:
			if err := s.keepSeen(ctx); err != nil && ctx.Err() == nil {
				s.log.Warn("it could not be kept which hosts reported", "error", err)
			}
			if !s.Spreads() {
				if time.Since(looked) < lookEvery {
					continue
				}
				if looked = time.Now(); !s.leftOver(ctx) {
					continue
				}
			}
		case <-s.wake:
		}
		if pause := max(spreadPause, took) - time.Since(last); pause > 0 { // what is accepted meanwhile is spread together
			select {
			case <-ctx.Done():
			case <-time.After(pause):
			}
		}
		asked, begin := s.asked.Load(), time.Now()
		more, err := true, error(nil)
		for more && err == nil && ctx.Err() == nil {
			more, err = s.spread(ctx)
		}
		if err == nil && !more {
			s.served.Store(asked)
			last, took = time.Now(), time.Since(begin)
		} else if err != nil && ctx.Err() == nil {
			s.log.Warn("what hosts reported could not be asked to be written; it is tried again", "error", err)
		}
	}
}

// leftOver reports whether there are acceptances that nobody spread.
func (s *Hosts) leftOver(ctx context.Context) (any bool) {
	err := s.store.Look(ctx, func(tx *store.Tx) (err error) { any, err = tx.AnyUnspread(); return err })
	return err != nil || any
}

// spread asks for some acceptances to be written, and reports whether there may be more.
func (s *Hosts) spread(ctx context.Context) (more bool, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		list, err := tx.Unspread(spreadTogether)
		if err != nil || len(list) == 0 {
			return err
		}
		more = len(list) == spreadTogether
		var ids []uint64
		for _, a := range list {
			ids = append(ids, a.Host.ZoneID)
		}
		slices.Sort(ids)
		at, err := zones.PlacementsIn(tx, slices.Compact(ids))
		if err != nil {
			return err
		}
		var all []store.Placement
		for zone := range at {
			at[zone] = placed(at[zone])
			all = append(all, at[zone]...)
		}
		slices.SortFunc(all, func(a, b store.Placement) int { return int(int64(a.ID) - int64(b.ID)) })
		if err := zones.LockPlacements(tx, all); err != nil { // before the rows of hosts, as syncs do
			return err
		}
		if err := tx.Spread(list, at); err != nil {
			return err
		}
		lines := make([]store.Line, len(list))
		for i, a := range list {
			lines[i] = lineOf(a)
		}
		if err := logbook.LogAll(tx, lines); err != nil {
			return err
		}
		return sync.AwaitHosts(tx, access.Service.Name, all...)
	})
	if err == nil {
		s.jobs.Wake(store.JobUrgent)
	}
	return more, err
}

// lineOf returns the line of the logbook about where a host moved.
func lineOf(a store.Acceptance) store.Line {
	before := strings.ReplaceAll(a.Report.Was, " ", " and ")
	if before == "" {
		before = "no address"
	}
	text := addressText(a.Host.At()) + ", before " + before
	if a.Report.Reason != "" {
		text += ": " + a.Report.Reason
	}
	return store.Line{Actor: a.Report.Actor, Action: "host.reported", Subject: a.Host.Name().String(), Detail: text}
}

// pursue sees to it that what is known already is on its way, should an earlier attempt have been given up.
func (s *Hosts) pursue(tx *store.Tx, p *place) error {
	p.asked, p.arrived = s.store.Now(), true
	hosts, err := tx.HostsAt(p.ID)
	if err != nil {
		return err
	}
	for _, h := range hosts {
		if h.Unspread {
			p.arrived = false
			continue
		}
		if h.ReportID == nil {
			continue
		}
		away, stuck, err := tx.Unarrived(*h.ReportID)
		if err != nil {
			return err
		}
		p.arrived = p.arrived && away == 0
		if len(stuck) == 0 {
			continue
		}
		placements, err := zones.Placements(tx, h.ZoneID)
		if err != nil {
			return err
		}
		placements = slices.DeleteFunc(placements, func(p store.Placement) bool { return !slices.Contains(stuck, p.ID) })
		if err := sync.AwaitHosts(tx, "host "+h.Name().String(), placements...); err != nil {
			return err
		}
		s.jobs.Wake(store.JobUrgent)
	}
	return nil
}

// saw notes that an uplink reported what was known.
func (s *Hosts) saw(one store.Seen) {
	s.seenMu.Lock()
	defer s.seenMu.Unlock()
	if s.seen == nil {
		s.seen = map[uint64]store.Seen{}
	}
	s.seen[one.Uplink] = one
}

// keepSeen stores which uplinks reported what was known.
func (s *Hosts) keepSeen(ctx context.Context) error {
	s.committer.turn.Lock() // the same rows are stored with reports
	defer s.committer.turn.Unlock()
	s.seenMu.Lock()
	seen := s.seen
	s.seen = nil
	s.seenMu.Unlock()
	if len(seen) == 0 {
		return nil
	}
	list := make([]store.Seen, 0, len(seen))
	for _, one := range seen {
		list = append(list, one)
	}
	slices.SortFunc(list, func(a, b store.Seen) int { return int(int64(a.Uplink) - int64(b.Uplink)) })
	err := s.logbook.Tx(ctx, func(tx *store.Tx) error { return tx.SawUplinks(list) })
	if err != nil {
		for _, one := range list {
			s.seenMu.Lock()
			if _, newer := s.seen[one.Uplink]; !newer {
				if s.seen == nil {
					s.seen = map[uint64]store.Seen{}
				}
				s.seen[one.Uplink] = one
			}
			s.seenMu.Unlock()
		}
	}
	return err
}
