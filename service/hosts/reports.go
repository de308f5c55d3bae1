package hosts

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// AddressReport is what a host says of itself.
type AddressReport struct {
	Host   string // its name; may be empty, since the token says it
	V4, V6 string // both empty for the address that the report came from
	Peer   netip.Addr

	Unreadable string // why the report could not be read; it is refused then
}

// Report stores an address that a host reports with its token. An accepted one has been stored when this returns, and
// the work of writing it with it: nothing but the database's loss can lose it. The token of a host says which host it is; others name it.
func (s *Hosts) Report(ctx context.Context, by access.Caller, r AddressReport) (d dynaddr.Decision, err error) {
	at := s.store.Now()
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		h, err := hostOf(tx, by, r)
		if err != nil {
			return err
		}
		reported, wrong := readReport(h, r)
		if wrong == nil {
			d = dynaddr.Judge(h.Follows(), h.At(), reported, s.believe)
		} else {
			d = dynaddr.Decision{Outcome: dynaddr.Refused, Reason: wrong.Error(), Now: h.At()}
		}
		row := store.Report{HostID: h.ID, Reason: d.Reason, V4: textOf(reported.V4), V6: textOf(reported.V6), Peer: textOf(r.Peer), ReportedAt: at}
		switch d.Outcome {
		case dynaddr.Refused:
			return s.refuse(tx, h, row)
		case dynaddr.Unchanged:
			return s.unchanged(tx, h)
		}
		if h, err = tx.LockHost(h.ID); err != nil {
			return err
		}
		// Another report may have come in between.
		if d = dynaddr.Judge(h.Follows(), h.At(), reported, s.believe); d.Outcome == dynaddr.Unchanged {
			return s.unchanged(tx, h)
		}
		return s.accept(tx, h, row, d.Now)
	})
	s.jobs.Wake(store.JobUrgent)
	return d, err
}

// hostOf returns the host that a report is for, if the caller may report for it.
func hostOf(tx *store.Tx, by access.Caller, r AddressReport) (h store.Host, err error) {
	refused := wire.Problemf(wire.NotSignedIn, "The token is not one of a host here.")
	if name, own := strings.CutPrefix(by.Token, "host "); own {
		host, err := dnsname.Parse(name)
		if err != nil {
			return h, err
		}
		return tx.Host(host)
	}
	name, wrong := dnsname.Parse(r.Host)
	if r.Host == "" || wrong != nil {
		return h, refused
	}
	if h, err = tx.Host(name); store.IsMissing(err) {
		return h, refused
	}
	if err != nil {
		return h, err
	}
	z, err := zones.ByID(tx, h.ZoneID)
	if err != nil {
		return h, err
	}
	if wire.Permit(by, access.Report, access.Object{Zone: z.Name(), Name: name}) != nil {
		return h, refused
	}
	return h, nil
}

func textOf(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

func readReport(h store.Host, r AddressReport) (dynaddr.Addresses, error) {
	if r.Unreadable != "" {
		return dynaddr.Addresses{}, errors.New(r.Unreadable)
	}
	if r.Host != "" {
		if name, err := dnsname.Parse(r.Host); err != nil || name != h.Name() {
			return dynaddr.Addresses{}, fmt.Errorf("this token reports for %s, not for %.100q", h.Name().Unicode(), r.Host)
		}
	}
	return dynaddr.Read(r.V4, r.V6, r.Peer)
}

func (s *Hosts) refuse(tx *store.Tx, h store.Host, r store.Report) error {
	first, err := tx.RefuseReport(r)
	if err != nil || !first {
		return err
	}
	return logbook.Log(tx, "host "+h.Name().String(), "host.refused", h.Name().String(), r.Reason)
}

// unchanged sees to it that what is known already is on its way, should an earlier attempt have been given up.
func (s *Hosts) unchanged(tx *store.Tx, h store.Host) error {
	if err := tx.SawHost(h); err != nil || h.ReportID == nil {
		return err
	}
	stuck, err := tx.Unarrived(*h.ReportID)
	if err != nil || len(stuck) == 0 {
		return err
	}
	placements, err := zones.Placements(tx, h.ZoneID)
	if err != nil {
		return err
	}
	return await(tx, h, slices.DeleteFunc(placements, func(p store.Placement) bool { return !slices.Contains(stuck, p.ID) }))
}

func (s *Hosts) accept(tx *store.Tx, h store.Host, r store.Report, now dynaddr.Addresses) error {
	made, err := zones.Placements(tx, h.ZoneID)
	if err != nil {
		return err
	}
	made = slices.DeleteFunc(made, func(p store.Placement) bool { return p.RemoteID == "" })
	if err := zones.LockPlacements(tx, made); err != nil {
		return err
	}
	if err := tx.AcceptReport(r, now, made); err != nil {
		return err
	}
	if err := logbook.Log(tx, "host "+h.Name().String(), "host.reported", h.Name().String(), fmt.Sprintf("%s, before %s", addressText(now), addressText(h.At()))); err != nil {
		return err
	}
	return await(tx, h, made)
}

// await asks for syncs of the hosts at placements of a host's zone.
func await(tx *store.Tx, h store.Host, placements []store.Placement) error {
	z, err := zones.ByID(tx, h.ZoneID)
	if err != nil {
		return err
	}
	for _, p := range placements {
		if err := sync.AwaitHosts(tx, z, p, "host "+h.Name().String()); err != nil {
			return err
		}
	}
	return nil
}
