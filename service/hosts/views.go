package hosts

import (
	"context"
	"slices"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/service/accounts"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Hosts returns at most limit hosts behind a name with the newest report of each, in canonical order, and whether there are more.
func (s *Hosts) Hosts(ctx context.Context, by access.Caller, after dnsname.Name, limit int) (list []wire.HostView, more bool, err error) {
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		tx.Narrow(access.Where(by, access.See))
		rows, err := tx.HostsAfter(after, limit+1)
		if err != nil {
			return err
		}
		if more = len(rows) > limit; more {
			rows = rows[:limit]
		}
		var ids []uint64
		for _, h := range rows {
			if h.LastReportID != 0 {
				ids = append(ids, h.LastReportID)
			}
		}
		reports, err := tx.ReportsByID(ids)
		if err != nil {
			return err
		}
		arrivals, err := tx.Arrivals(ids)
		if err != nil {
			return err
		}
		byReport := map[uint64][]store.Arrival{}
		for _, a := range arrivals {
			byReport[a.ReportID] = append(byReport[a.ReportID], a)
		}
		places, err := s.placesOf(tx, rows)
		if err != nil {
			return err
		}
		list = make([]wire.HostView, len(rows))
		for i, h := range rows {
			p := places[h.LocationID]
			if list[i], err = p.viewOf(h.Host, dnsname.FromKey(h.ZoneKey)); err != nil {
				return err
			}
			if r, ok := reports[h.LastReportID]; ok {
				v, err := viewReport(tx, h.Host, r, byReport[r.ID])
				if err != nil {
					return err
				}
				list[i].Last = &v
			}
		}
		return nil
	})
	return list, more, err
}

// placesOf reads the locations of hosts, without their other hosts.
func (s *Hosts) placesOf(tx *store.Tx, rows []store.HostRow) (map[uint64]place, error) {
	var ids []uint64
	for _, h := range rows {
		ids = append(ids, h.LocationID)
	}
	slices.Sort(ids)
	ids = slices.Compact(ids)
	locations, err := tx.LocationsByID(ids)
	if err != nil {
		return nil, err
	}
	uplinks, err := tx.Uplinks(ids...)
	if err != nil {
		return nil, err
	}
	places := map[uint64]place{}
	for id, l := range locations {
		p := place{Location: l, uplinks: slices.DeleteFunc(slices.Clone(uplinks), func(u store.Uplink) bool { return u.LocationID != id })}
		if err := p.read(nil); err != nil {
			return nil, err
		}
		places[id] = p
	}
	return places, nil
}

// Host shows one host with its reports.
func (s *Hosts) Host(ctx context.Context, by access.Caller, name dnsname.Name) (v wire.HostView, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		h, err := hostFor(tx, by, name)
		if err == nil {
			v, err = s.viewHost(tx, h.Host, 100)
		}
		return err
	})
	return v, err
}

func (s *Hosts) viewHost(tx *store.Tx, h store.Host, reports int) (v wire.HostView, err error) {
	z, err := zones.ByID(tx, h.ZoneID)
	if err != nil {
		return v, err
	}
	p, err := placeAt(tx, h.LocationID, false)
	if err != nil {
		return v, err
	}
	if v, err = p.viewOf(h, z.Name()); err != nil {
		return v, err
	}
	v.Uplinks = p.viewUplinks(s.world.Now())
	if v.Reports, err = viewReports(tx, h, reports); err == nil && len(v.Reports) > 0 {
		v.Last = &v.Reports[0]
	}
	return v, err
}

// viewOf shows a host of a location without its reports.
func (p place) viewOf(h store.Host, zone dnsname.Name) (v wire.HostView, err error) {
	follows, err := h.Following(p.policy)
	if err != nil {
		return v, err
	}
	stands, err := h.Stands()
	if err != nil {
		return v, err
	}
	own, err := h.Rules()
	if err != nil {
		return v, err
	}
	v = wire.HostView{Name: h.Name(), Zone: zone, Follows: h.Follows(), TTL: h.TTL, Location: p.Label(), Status: dynaddr.StatusOf(follows, p.lines, stands), V4: textOf(stands.V4.Addr), V6: textOf(stands.V6.Addr),
		Below: follows.Place, Policy: own, Rules: follows.Policy.Over(dynaddr.Default()), CreatedBy: h.CreatedBy, CreatedAt: h.CreatedAt}
	for _, f := range []dynaddr.Followed{stands.V6, stands.V4} { // what is said of a host is of its IPv4 address where it has one
		if f.Addr.IsValid() {
			v.Since = timeOf(f.Since)
			if v.Uplink = ""; f.Uplink >= 0 && f.Uplink < len(p.uplinks) {
				v.Uplink = p.uplinks[f.Uplink].Name
			}
		}
		if f.Held() {
			v.Waiting, v.Until = textOf(f.Waiting), timeOf(f.Until)
		}
	}
	v.Silent = timeOf(stands.Silent)
	for _, u := range p.uplinks {
		if v.SeenAt == nil || u.ReportedAt != nil && u.ReportedAt.After(*v.SeenAt) {
			v.SeenAt = u.ReportedAt
		}
	}
	return v, nil
}

// timeOf returns a moment, or nil for none.
func timeOf(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// viewUplinks shows the uplinks of a location.
func (p place) viewUplinks(now time.Time) []wire.UplinkView {
	list := make([]wire.UplinkView, len(p.uplinks))
	rules := p.policy.Over(dynaddr.Default())
	for i, u := range p.uplinks {
		l := p.lines.List[i]
		names, _ := u.Names() // a report says where they cannot be read
		list[i] = wire.UplinkView{Name: u.Name, V4: textOf(l.V4), V6: textOf(l.V6), Prefixes: []string{}, Translated: textOf(l.Translated), SeenAt: u.ReportedAt, SeenFrom: u.ReportedFrom, Refused: u.Refused,
			Parameters: names, Reports: !l.Seen.IsZero() && now.Before(l.Seen.Add(time.Duration(*rules.Failover)*time.Second))}
		for _, prefix := range l.Prefixes {
			list[i].Prefixes = append(list[i].Prefixes, prefix.String())
		}
	}
	return list
}

// Locations returns at most limit locations behind a name that the caller may see, in the order of their names, and whether there are more.
func (s *Hosts) Locations(ctx context.Context, by access.Caller, after string, limit int) (list []wire.LocationView, more bool, err error) {
	list = []wire.LocationView{}
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		for {
			rows, err := tx.LocationsAfter(after, limit+1)
			if err != nil {
				return err
			}
			for _, l := range rows {
				if len(list) == limit {
					more = true
					return nil
				}
				after = l.Label()
				p, err := placeAt(tx, l.ID, false)
				if err != nil {
					return err
				}
				if sees, _, _, err := rights(tx, by, access.See, p); err != nil || !sees {
					if err != nil {
						return err
					}
					continue
				}
				v, err := s.viewPlace(tx, by, p)
				if err != nil {
					return err
				}
				list = append(list, v)
			}
			if len(rows) <= limit {
				return nil
			}
		}
	})
	return list, more, err
}

// Location shows one location with its uplinks and hosts.
func (s *Hosts) Location(ctx context.Context, by access.Caller, name string) (v wire.LocationView, err error) {
	err = s.logbook.Look(ctx, func(tx *store.Tx) error {
		p, err := locationFor(tx, by, access.See, name)
		if err == nil {
			v, err = s.viewPlace(tx, by, p)
		}
		return err
	})
	return v, err
}

// viewPlace shows a location with those of its hosts that the caller may see.
func (s *Hosts) viewPlace(tx *store.Tx, by access.Caller, p place) (v wire.LocationView, err error) {
	v = wire.LocationView{Name: p.Label(), Description: p.Description, Policy: p.policy, Rules: p.policy.Over(dynaddr.Default()), Uplinks: p.viewUplinks(s.world.Now()), Hosts: []wire.HostView{},
		CreatedBy: p.CreatedBy, CreatedAt: p.CreatedAt}
	for _, h := range p.hosts {
		z, err := zones.ByID(tx, h.ZoneID)
		if err != nil {
			return v, err
		}
		if !access.May(by, access.See, access.Object{Zone: z.Name(), Name: h.Name()}).Allowed {
			continue
		}
		one, err := p.viewOf(h.Host, z.Name())
		if err != nil {
			return v, err
		}
		v.Hosts = append(v.Hosts, one)
	}
	return v, nil
}

func viewReports(tx *store.Tx, h store.Host, most int) ([]wire.ReportView, error) {
	rows, err := tx.Reports(h.ID, most)
	if err != nil {
		return nil, err
	}
	ahead, err := h.Ahead()
	if err != nil {
		return nil, err
	}
	slices.Reverse(ahead)
	rows = append(ahead, rows...)
	ids := make([]uint64, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	arrivals, err := tx.Arrivals(ids)
	if err != nil {
		return nil, err
	}
	byReport := map[uint64][]store.Arrival{}
	for _, a := range arrivals {
		byReport[a.ReportID] = append(byReport[a.ReportID], a)
	}
	list := make([]wire.ReportView, len(rows))
	for i, r := range rows {
		if list[i], err = viewReport(tx, h, r, byReport[r.ID]); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// viewReport shows one report of a host with how far it has come. What holds up the newest is looked for where it has not arrived.
func viewReport(tx *store.Tx, h store.Host, r store.Report, arrivals []store.Arrival) (v wire.ReportView, err error) {
	v = wire.ReportView{Outcome: r.Outcome, Reason: r.Reason, V4: r.V4, V6: r.V6, Peer: r.Peer, Uplink: r.Uplink, Times: r.Times, ReportedAt: r.ReportedAt,
		AcceptedAt: r.AcceptedAt, Arrivals: []wire.ArrivalView{}}
	latest := r.ID == 0 || !h.Unspread && h.ReportID != nil && *h.ReportID == r.ID
	if r.ID == 0 { // it is about to be asked to be written
		placements, err := zones.Placements(tx, h.ZoneID)
		if err != nil {
			return v, err
		}
		for _, p := range placed(placements) {
			account, err := accounts.ByID(tx, p.AccountID)
			if err != nil {
				return v, err
			}
			arrivals = append(arrivals, store.Arrival{PlacementID: p.ID, Account: account.Name})
		}
	}
	for _, a := range arrivals {
		one := wire.ArrivalView{Account: a.Account, WrittenAt: a.WrittenAt, VisibleAt: a.VisibleAt, SettlesBy: a.SettlesBy}
		if a.VisibleAt == nil && latest {
			if one.Problem, err = lastProblem(tx, a.PlacementID, r); err != nil {
				return v, err
			}
		}
		v.Overtaken = v.Overtaken || a.VisibleAt == nil && !latest
		v.Arrivals = append(v.Arrivals, one)
	}
	return v, nil
}

// lastProblem is what holds up the attempt to write a report, or what ended the last one, if one ended since it came.
func lastProblem(tx *store.Tx, placementID uint64, r store.Report) (string, error) {
	last, err := sync.LastOfHosts(tx, placementID)
	if err == nil && !last.State.Ended() && last.Trouble != "" {
		return last.Trouble, nil
	}
	if err != nil || last.FinishedAt == nil || last.FinishedAt.Before(r.ReportedAt) {
		return "", err
	}
	return last.Message, nil
}

// SilentIn returns the hosts of a zone that have reported nothing for too long.
func (s *Hosts) SilentIn(tx *store.Tx, zone dnsname.Name) (names []string, err error) {
	z, err := zones.ByName(tx, zone)
	if err != nil {
		return nil, err
	}
	list, err := zones.HostsOf(tx, z.ID)
	for _, h := range list {
		if stands, err := h.Stands(); err == nil && !stands.Silent.IsZero() {
			names = append(names, strings.TrimSuffix(h.Name().String(), "."))
		}
	}
	return names, err
}
