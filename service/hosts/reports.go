package hosts

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// AddressReport is what an uplink says of itself.
type AddressReport struct {
	Said       url.Values // its parameters; none for the address that it came from
	Peer       netip.Addr // that it came from
	Unreadable string     // why the report could not be read; it is refused then
}

// Report stores what an uplink reports with its token. An accepted report has been stored when this returns, and the work of writing it with it: nothing but the database's
// loss can lose it. The token of an uplink says which one it is; others name a host, and report for the best uplink of its location.
func (s *Hosts) Report(ctx context.Context, by access.Caller, r AddressReport) (d dynaddr.Decision, err error) {
	at := s.store.Now()
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		location, uplink, err := reportsFor(tx, by, r)
		if err != nil {
			return err
		}
		p, err := placeAt(tx, location, false)
		if err != nil {
			return err
		}
		now := s.world.Now()
		t := s.take(&p, uplink, by, r, now)
		d = t.answer()
		row := store.Report{Reason: d.Reason, V4: textOf(t.report.V4), V6: textOf(t.report.V6), Peer: textOf(r.Peer), Uplink: t.name, ReportedAt: at}
		switch {
		case t.judged.Outcome == dynaddr.Refused:
			return s.refuse(tx, p, t, row)
		case t.still():
			return s.unchanged(tx, p, t)
		}
		if p, err = placeAt(tx, location, true); err != nil { // another report may have come in between
			return err
		}
		if t = s.take(&p, uplink, by, r, now); t.judged.Outcome == dynaddr.Refused {
			d = t.answer()
			return s.refuse(tx, p, t, row)
		}
		d = t.answer()
		if err := tx.SaveUplink(t.row); err != nil {
			return err
		}
		if err := s.noteHeld(tx, p, t, row); err != nil {
			return err
		}
		if err := s.foresee(tx, p, t.decided); err != nil {
			return err
		}
		return s.carry(tx, p, t.decided, row, by.Name)
	})
	s.jobs.Wake(store.JobUrgent)
	return d, err
}

// Until returns how long it is until what is held is taken, real time.
func (s *Hosts) Until(d dynaddr.Decision) time.Duration {
	return max(s.world.WallAt(d.Until).Sub(s.store.Now()), 0)
}

// taken is what a report makes of a location.
type taken struct {
	decided
	judged dynaddr.Judged
	report dynaddr.Report
	row    store.Uplink // with what it makes of the uplink
	was    store.Uplink
	name   string
}

// answer is what the reporter is told.
func (t taken) answer() dynaddr.Decision {
	return dynaddr.Answer(t.judged, t.report, t.changes)
}

// still reports whether nothing is new.
func (t taken) still() bool {
	return t.decided.still() && t.row.State == t.was.State && t.was.Refused == ""
}

// take judges a report of an uplink, and what the hosts make of it. It changes only what was read of the location.
func (s *Hosts) take(p *place, uplink uint64, by access.Caller, r AddressReport, now time.Time) (t taken) {
	i := slices.IndexFunc(p.uplinks, func(u store.Uplink) bool { return u.ID == uplink })
	t.was, t.name = p.uplinks[i], p.uplinks[i].Name
	t.row = t.was
	t.row.ReportedFrom = textOf(r.Peer)
	var wrong error
	if t.report, wrong = p.reading(t.was, by, r, now); wrong != nil {
		t.judged = dynaddr.Judged{Uplink: p.lines.List[i], Outcome: dynaddr.Refused, Reason: wrong.Error()}
	} else {
		t.judged = p.lines.List[i].Take(p.policy, p.families(), t.report, s.believe)
	}
	if t.row.Refused = ""; t.judged.Outcome == dynaddr.Refused {
		t.row.Refused = t.judged.Reason
	}
	p.lines.List[i] = t.judged.Uplink
	t.row.Keep(t.judged.Uplink)
	t.decided = s.decide(*p, now)
	return t
}

// reading returns what a report of an uplink says.
func (p place) reading(uplink store.Uplink, by access.Caller, r AddressReport, now time.Time) (out dynaddr.Report, err error) {
	if r.Unreadable != "" {
		return out, errors.New(r.Unreadable)
	}
	names, err := uplink.Names()
	if err != nil {
		return out, err
	}
	said, err := names.Read(r.Said)
	if err != nil {
		return out, err
	}
	if said.Host != "" {
		name, err := dnsname.Parse(said.Host)
		if err != nil || !slices.ContainsFunc(p.hosts, func(h follower) bool { return h.Name() == name }) {
			return out, fmt.Errorf("this token reports for %s, not for %.100q", p.title(), said.Host)
		}
	}
	out, err = said.Report(r.Peer)
	out.Source, out.At = fmt.Sprint(by.TokenID), now
	return out, err
}

// reportsFor returns the uplink that a report is of, and its location, if the caller may report for it.
func reportsFor(tx *store.Tx, by access.Caller, r AddressReport) (location, uplink uint64, err error) {
	refused := wire.Problemf(wire.NotSignedIn, "The token is not one of a host here.")
	if by.Uplink != 0 {
		u, err := tx.UplinkByID(by.Uplink)
		return u.LocationID, u.ID, err
	}
	host := strings.TrimSpace(r.Said.Get("host"))
	name, wrong := dnsname.Parse(host)
	if host == "" || wrong != nil {
		return 0, 0, refused
	}
	h, err := tx.Host(name)
	if store.IsMissing(err) {
		return 0, 0, refused
	}
	if err != nil {
		return 0, 0, err
	}
	z, err := zones.ByID(tx, h.ZoneID)
	if err != nil {
		return 0, 0, err
	}
	if wire.Permit(by, access.Report, access.Object{Zone: z.Name(), Name: name}) != nil {
		return 0, 0, refused
	}
	list, err := tx.Uplinks(h.LocationID)
	if err == nil && len(list) == 0 {
		err = wire.Problemf(wire.Blocked, "The location of %s has no uplink. Add one: beacon location add-uplink.", name.Unicode())
	}
	if err != nil {
		return 0, 0, err
	}
	return h.LocationID, list[0].ID, nil
}

func textOf(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

// refuse keeps that a report was refused: at the uplink, and for each of its hosts.
func (s *Hosts) refuse(tx *store.Tx, p place, t taken, r store.Report) error {
	u := t.was
	u.ReportedFrom, u.Refused = r.Peer, t.judged.Reason
	if err := tx.SaveUplink(u); err != nil {
		return err
	}
	for _, h := range p.hosts {
		r.HostID, r.Outcome = h.ID, dynaddr.Refused
		first, err := tx.NoteReport(r)
		if err != nil {
			return err
		}
		if !first {
			continue
		}
		if err := logbook.Log(tx, "host "+h.Name().String(), "host.refused", h.Name().String(), r.Reason); err != nil {
			return err
		}
	}
	return nil
}

// noteHeld keeps a report that a second source has to confirm.
func (s *Hosts) noteHeld(tx *store.Tx, p place, t taken, r store.Report) error {
	if t.judged.Outcome != dynaddr.Held {
		return nil
	}
	for _, h := range p.hosts {
		r.HostID, r.Outcome = h.ID, dynaddr.Held
		if _, err := tx.NoteReport(r); err != nil {
			return err
		}
	}
	return nil
}

// seenEvery is how often it is noted that an uplink reports the same, simulated time, where nobody waits for that sooner.
const seenEvery = time.Minute

// unchanged sees to it that what is known already is on its way, should an earlier attempt have been given up.
func (s *Hosts) unchanged(tx *store.Tx, p place, t taken) error {
	every := seenEvery
	for _, h := range p.hosts {
		rules := h.follows.Policy.Over(dynaddr.Default())
		for _, limit := range []*uint32{rules.Silence, rules.Failover} {
			if *limit > 0 {
				every = min(every, time.Duration(*limit)*time.Second/8)
			}
		}
	}
	if t.was.SeenAt == nil || t.row.SeenAt.Sub(*t.was.SeenAt) >= every || t.was.ReportedFrom != t.row.ReportedFrom {
		if err := tx.SaveUplink(t.row); err != nil {
			return err
		}
		if err := s.foresee(tx, p, t.decided); err != nil {
			return err
		}
	}
	for _, h := range p.hosts {
		if h.ReportID == nil {
			continue
		}
		stuck, err := tx.Unarrived(*h.ReportID)
		if err != nil || len(stuck) == 0 {
			return err
		}
		placements, err := zones.Placements(tx, h.ZoneID)
		if err != nil {
			return err
		}
		placements = slices.DeleteFunc(placements, func(p store.Placement) bool { return !slices.Contains(stuck, p.ID) })
		if err := s.await(tx, placements, "host "+h.Name().String()); err != nil {
			return err
		}
	}
	return nil
}

// RunHosts moves the hosts of a location at a moment that was foreseen. It is the handler of those jobs.
func (s *Hosts) RunHosts(ctx context.Context, job store.Job) error {
	var d decided
	err := s.logbook.Tx(ctx, func(tx *store.Tx) error {
		p, err := placeAt(tx, job.Subject, true)
		if err != nil {
			return err
		}
		d = s.decide(p, s.world.Now())
		return s.carry(tx, p, d, store.Report{}, access.Service.Name)
	})
	if store.IsMissing(err) { // it was removed
		return nil
	}
	s.jobs.Wake(store.JobUrgent)
	if err != nil || d.next.IsZero() {
		return err
	}
	return jobs.Later{World: d.next, Worked: true}
}
