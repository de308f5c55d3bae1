package hosts

import (
	"context"

	"beacon/core/access"
	"beacon/core/dnsname"
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
		list = make([]wire.HostView, len(rows))
		for i, h := range rows {
			list[i] = viewOf(h.Host, dnsname.FromKey(h.ZoneKey))
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

// Host shows one host with its reports.
func (s *Hosts) Host(ctx context.Context, by access.Caller, name dnsname.Name) (v wire.HostView, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		h, err := hostFor(tx, by, name)
		if err == nil {
			v, err = viewHost(tx, h.Host, 100)
		}
		return err
	})
	return v, err
}

func viewHost(tx *store.Tx, h store.Host, reports int) (wire.HostView, error) {
	z, err := zones.ByID(tx, h.ZoneID)
	if err != nil {
		return wire.HostView{}, err
	}
	v := viewOf(h, z.Name())
	if v.Reports, err = viewReports(tx, h, reports); err == nil && len(v.Reports) > 0 {
		v.Last = &v.Reports[0]
	}
	return v, err
}

// viewOf shows a host without its reports.
func viewOf(h store.Host, zone dnsname.Name) wire.HostView {
	v := wire.HostView{Name: h.Name(), Zone: zone, Follows: h.Follows(), TTL: h.TTL, SeenAt: h.SeenAt, CreatedBy: h.CreatedBy, CreatedAt: h.CreatedAt}
	if at := h.At(); at.V4.IsValid() {
		v.V4 = at.V4.String()
	}
	if at := h.At(); at.V6.IsValid() {
		v.V6 = at.V6.String()
	}
	return v
}

func viewReports(tx *store.Tx, h store.Host, most int) ([]wire.ReportView, error) {
	rows, err := tx.Reports(h.ID, most)
	if err != nil {
		return nil, err
	}
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
	v = wire.ReportView{Outcome: r.Outcome, Reason: r.Reason, V4: r.V4, V6: r.V6, Peer: r.Peer, Times: r.Times, ReportedAt: r.ReportedAt,
		AcceptedAt: r.AcceptedAt, Arrivals: []wire.ArrivalView{}}
	latest := h.ReportID != nil && *h.ReportID == r.ID
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

// lastProblem is what ended the last attempt to write a report, if one ended since it came.
func lastProblem(tx *store.Tx, placementID uint64, r store.Report) (string, error) {
	last, err := sync.LastOfHosts(tx, placementID)
	if err != nil || last.FinishedAt == nil || last.FinishedAt.Before(r.ReportedAt) {
		return "", err
	}
	return last.Message, nil
}
