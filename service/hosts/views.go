package hosts

import (
	"context"

	"beacon/core/dnsname"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Hosts lists all hosts.
func (s *Hosts) Hosts(ctx context.Context) (list []wire.HostView, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		hosts, err := tx.Hosts()
		if err != nil {
			return err
		}
		list = make([]wire.HostView, 0, len(hosts))
		for _, h := range hosts {
			v, err := viewHost(tx, h, 1)
			if err != nil {
				return err
			}
			v.Reports = nil
			list = append(list, v)
		}
		return nil
	})
	return list, err
}

// Host shows one host with its reports.
func (s *Hosts) Host(ctx context.Context, name dnsname.Name) (v wire.HostView, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		h, err := tx.Host(name)
		if err == nil {
			v, err = viewHost(tx, h, 100)
		}
		return err
	})
	return v, err
}

func viewHost(tx *store.Tx, h store.Host, reports int) (wire.HostView, error) {
	v := wire.HostView{Name: h.Name(), Follows: h.Follows(), TTL: h.TTL, SeenAt: h.SeenAt, CreatedBy: h.CreatedBy, CreatedAt: h.CreatedAt}
	if at := h.At(); at.V4.IsValid() {
		v.V4 = at.V4.String()
	}
	if at := h.At(); at.V6.IsValid() {
		v.V6 = at.V6.String()
	}
	z, err := zones.ByID(tx, h.ZoneID)
	if err != nil {
		return v, err
	}
	v.Zone = z.Name()
	if v.Reports, err = viewReports(tx, h, reports); err == nil && len(v.Reports) > 0 {
		v.Last = &v.Reports[0]
	}
	return v, err
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
	list := make([]wire.ReportView, len(rows))
	for i, r := range rows {
		v := wire.ReportView{Outcome: r.Outcome, Reason: r.Reason, V4: r.V4, V6: r.V6, Peer: r.Peer, Times: r.Times, ReportedAt: r.ReportedAt,
			AcceptedAt: r.AcceptedAt, Arrivals: []wire.ArrivalView{}}
		latest := h.ReportID != nil && *h.ReportID == r.ID
		for _, a := range arrivals {
			if a.ReportID != r.ID {
				continue
			}
			one := wire.ArrivalView{Account: a.Account, WrittenAt: a.WrittenAt, VisibleAt: a.VisibleAt, SettlesBy: a.SettlesBy}
			if a.VisibleAt == nil && latest {
				if one.Problem, err = lastProblem(tx, a.PlacementID, r); err != nil {
					return nil, err
				}
			}
			v.Overtaken = v.Overtaken || a.VisibleAt == nil && !latest
			v.Arrivals = append(v.Arrivals, one)
		}
		list[i] = v
	}
	return list, nil
}

// lastProblem is what ended the last attempt to write a report, if one ended since it came.
func lastProblem(tx *store.Tx, placementID uint64, r store.Report) (string, error) {
	last, err := sync.LastOfHosts(tx, placementID)
	if err != nil || last.FinishedAt == nil || last.FinishedAt.Before(r.ReportedAt) {
		return "", err
	}
	return last.Message, nil
}
