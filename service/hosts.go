package service

import (
	"context"
	"fmt"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/core/record"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// usualTTL is what hosts get that are given none, in seconds: short, so that a change is soon known everywhere.
const usualTTL = 60

// AddHost makes a name follow the address that is reported for it.
func (s *Service) AddHost(ctx context.Context, n wire.NewHost) (out wire.HostAdded, err error) {
	switch {
	case !n.V4 && !n.V6:
		return out, wire.Problemf(wire.Invalid, "A host follows an IPv4 address, an IPv6 address, or both.")
	case n.Name.IsWildcard() || n.Name.IsRoot():
		return out, wire.Problemf(wire.Invalid, "%s is no host: name one machine.", n.Name)
	case n.TTL > record.MaxTTL:
		return out, wire.Problemf(wire.Invalid, "A TTL of %d s is more than the protocol allows; 60 is usual.", n.TTL)
	case n.TTL == 0:
		n.TTL = usualTTL
	}
	err = s.Logbook.Tx(ctx, func(tx *store.Tx) error {
		z, err := zoneAbove(tx, n.Name)
		if err != nil {
			return err
		}
		if z.RevisionID == nil {
			return wire.Problemf(wire.InTheWay, "Zone %s has no contents yet. Import a zone file or define it first.", z.Name())
		}
		contents, err := tx.Contents(*z.RevisionID)
		if err != nil {
			return err
		}
		if err := zones.HostFits(z.Name(), contents, n.Name); err != nil {
			return err
		}
		out.Name = n.Name
		if out.Token, err = tx.AddHost(z.ID, n.Name, dynaddr.Families{V4: n.V4, V6: n.V6}, n.TTL, logbook.Actor(ctx)); err != nil {
			return err
		}
		return logbook.Log(tx, logbook.Actor(ctx), "host.added", n.Name.String(), fmt.Sprintf("in zone %s, TTL %d", z.Name().Unicode(), n.TTL))
	})
	return out, err
}

// zoneAbove finds the zone that a name lies in.
func zoneAbove(tx *store.Tx, name dnsname.Name) (z store.Zone, err error) {
	for at := name; !at.IsZero() && !at.IsRoot(); at = at.Parent() {
		if z, err = tx.Zone(at); err == nil || !store.IsMissing(err) {
			return z, err
		}
	}
	return z, wire.Problemf(wire.Missing, "%s lies in no zone that is looked after here. Define its zone first.", name)
}

// RemoveHost ends that a name follows. What was reported last stays at the providers until their next sync, which
// brings back what the definition says.
func (s *Service) RemoveHost(ctx context.Context, name dnsname.Name) error {
	return s.Logbook.Tx(ctx, func(tx *store.Tx) error {
		h, err := tx.Host(name)
		if err != nil {
			return err
		}
		if err := tx.RemoveHost(h); err != nil {
			return err
		}
		return logbook.Log(tx, logbook.Actor(ctx), "host.removed", name.String(), "it stood at "+addressText(h.At()))
	})
}

func addressText(a dynaddr.Addresses) string {
	var texts []string
	if a.V4.IsValid() {
		texts = append(texts, a.V4.String())
	}
	if a.V6.IsValid() {
		texts = append(texts, a.V6.String())
	}
	if len(texts) == 0 {
		return "no address"
	}
	return strings.Join(texts, " and ")
}

// Hosts lists all hosts.
func (s *Service) Hosts(ctx context.Context) (list []wire.HostView, err error) {
	err = s.Logbook.Tx(ctx, func(tx *store.Tx) error {
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
func (s *Service) Host(ctx context.Context, name dnsname.Name) (v wire.HostView, err error) {
	err = s.Logbook.Tx(ctx, func(tx *store.Tx) error {
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
	z, err := tx.ZoneByID(h.ZoneID)
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
	last, err := tx.LastSyncOfHosts(placementID)
	if err != nil || last.FinishedAt == nil || last.FinishedAt.Before(r.ReportedAt) {
		return "", err
	}
	return last.Message, nil
}
