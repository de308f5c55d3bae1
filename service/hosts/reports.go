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

	read *dynaddr.Report // what it says, where it was read already
}

// Report stores what an uplink reports with its token. An accepted report has been stored when this returns, with a mark that it is to be written: nothing but the
// database's loss can lose it. The token of an uplink says which one it is; others name a host, and report for the best uplink of its location. What is
// known already is judged by what this instance remembers, and locks nothing.
func (s *Hosts) Report(ctx context.Context, by access.Caller, r AddressReport) (d dynaddr.Decision, err error) {
	one := &pending{by: by, report: r, location: by.Location, uplink: by.Uplink, at: s.store.Now()}
	if p, ok := s.memory.get(by.Location, by.Version); ok {
		one.judge(s, p)
		if s.known(one) {
			return one.taken.answer(), nil
		}
	}
	if by.Uplink == 0 {
		if err := s.logbook.Tx(ctx, func(tx *store.Tx) (err error) {
			one.location, one.uplink, err = reportsFor(tx, by, r)
			return err
		}); err != nil {
			return d, err
		}
	}
	s.commit(ctx, one)
	return one.decision, one.err
}

// known reports whether a report changes nothing, as far as is remembered, and notes that it came.
func (s *Hosts) known(one *pending) bool {
	p, t := one.place, one.taken
	if t.judged.Outcome == dynaddr.Refused || !t.still() || !p.arrived && s.store.Now().Sub(p.asked) > askAgain {
		return false
	}
	s.memory.saw(*p, t.index, t.report.At)
	s.saw(store.Seen{Uplink: one.uplink, At: t.report.At, ReportedAt: one.at, From: textOf(one.report.Peer)})
	return true
}

// askAgain is how often it is asked whether what was accepted has arrived, real time.
const askAgain = 3 * time.Second

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
	index  int // of the uplink among those of its location
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
	t.index = i
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
	if r.read != nil {
		out = *r.read
		out.Source, out.At = "update "+by.Name, now
		return out, nil
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
func (s *Hosts) refuse(tx *store.Tx, p *place, t taken, r store.Report) error {
	u := &p.uplinks[t.index]
	u.ReportedFrom, u.Refused = r.Peer, t.judged.Reason
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
func (s *Hosts) noteHeld(tx *store.Tx, p place, r store.Report) error {
	for _, h := range p.hosts {
		r.HostID, r.Outcome = h.ID, dynaddr.Held
		if _, err := tx.NoteReport(r); err != nil {
			return err
		}
	}
	return nil
}

// RunHosts moves the hosts of a location at a moment that was foreseen. It is the handler of those jobs.
func (s *Hosts) RunHosts(ctx context.Context, job store.Job) error {
	if err := s.keepSeen(ctx); err != nil {
		return err
	}
	var d decided
	err := s.logbook.Tx(ctx, func(tx *store.Tx) (err error) {
		p, err := placeAt(tx, job.Subject, true)
		if err != nil {
			return err
		}
		d = s.decide(p, s.world.Now())
		moved, err := s.carry(tx, &p, d, store.Report{Actor: access.Service.Name})
		if err != nil {
			return err
		}
		return tx.AcceptReports(moved)
	})
	if store.IsMissing(err) { // it was removed
		return nil
	}
	s.spreadSoon()
	if err != nil || d.next.IsZero() {
		return err
	}
	return jobs.Later{World: d.next, Worked: true}
}
