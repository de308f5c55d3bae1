package hosts

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"

	"github.com/miekg/dns"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/core/layers"
	"beacon/core/record"
	"beacon/core/update"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
)

// Update is a dynamic update (RFC 2136) with a key of an uplink. Its signature is verified.
type Update struct {
	Message   *dns.Msg
	Key       uint64
	KeyName   string
	Signature string // the same for the same message only
	Location  uint64
	Uplink    uint64
	Peer      netip.Addr
}

// UpdateAnswer is what an update is answered.
type UpdateAnswer = store.UpdateAnswer

// Leases that are granted, seconds (RFC 9664 section 4).
const (
	shortestLease = 60
	longestLease  = 7 * 86400
)

// signed is an update on its way to its commit.
type signed struct {
	Update
	lease    uint32 // that is granted
	answered UpdateAnswer
}

// Update takes a dynamic update as a report of an uplink, in the same commit and under the same policy as any other. NOERROR says that it is stored. An update that came
// before gets the answer that it got, and changes nothing.
func (s *Hosts) Update(ctx context.Context, u Update) (UpdateAnswer, error) {
	one := &pending{by: access.Caller{Name: "key " + u.KeyName, Location: u.Location, Uplink: u.Uplink}, report: AddressReport{Peer: u.Peer}, location: u.Location, uplink: u.Uplink,
		at: s.store.Now(), update: &signed{Update: u, answered: UpdateAnswer{Rcode: dns.RcodeRefused}}}
	s.commit(ctx, one)
	if one.err != nil {
		return UpdateAnswer{Rcode: dns.RcodeServerFailure}, one.err
	}
	return one.update.answered, nil
}

// readUpdate reads an update in the transaction that stores it, against what is accepted then. done is true where it is answered without a report.
func (s *Hosts) readUpdate(tx *store.Tx, p *place, one *pending) (done bool, err error) {
	u := one.update
	before, again, err := tx.UpdateAnswered(u.Key, u.Signature)
	if again || err != nil {
		u.answered = before
		return again, err
	}
	view, err := viewFor(tx, p)
	if err != nil {
		return false, err
	}
	d := update.Read(u.Message, view.View)
	if view.wrong != nil {
		return false, view.wrong
	}
	report, reason := dynaddr.Report{}, d.Reason
	if d.Rcode == dns.RcodeSuccess {
		report, reason = update.Report(d.Changes, view.Hosts, p.prefixLength())
	}
	if reason != "" {
		return true, u.refuse(tx, p, cmp.Or(d.Rcode, dns.RcodeRefused), reason)
	}
	u.lease, report.Lease = granted(d.Lease), granted(d.Lease)
	if len(d.Changes) == 0 { // prerequisites alone: they hold
		u.answered = UpdateAnswer{Lease: u.lease}
		return true, tx.AnswerUpdate(u.Key, u.Signature, u.answered)
	}
	one.report.read = &report
	return false, nil
}

// granted returns the lease that is granted where one is asked for.
func granted(asked uint32) uint32 {
	if asked == 0 {
		return 0
	}
	return min(max(asked, shortestLease), longestLease)
}

// answer keeps what an update is answered once its report is judged.
func (u *signed) answer(tx *store.Tx, d dynaddr.Decision) error {
	u.answered = UpdateAnswer{Lease: u.lease}
	if d.Outcome == dynaddr.Refused {
		u.answered = UpdateAnswer{Rcode: dns.RcodeRefused}
	}
	return tx.AnswerUpdate(u.Key, u.Signature, u.answered)
}

// refuse keeps that an update was refused. Clients ask by it, too, whether a prerequisite holds: that alone is not logged.
func (u *signed) refuse(tx *store.Tx, p *place, rcode int, reason string) error {
	u.answered = UpdateAnswer{Rcode: rcode}
	if err := tx.AnswerUpdate(u.Key, u.Signature, u.answered); err != nil {
		return err
	}
	switch rcode {
	case dns.RcodeNameError, dns.RcodeNXRrset, dns.RcodeYXDomain, dns.RcodeYXRrset:
		return nil
	}
	return logbook.Log(tx, "key "+u.KeyName, "host.refused", p.title(), fmt.Sprintf("update: %s (%s)", reason, dns.RcodeToString[rcode]))
}

// zoneView is what an update is held against, and what went wrong when it was read.
type zoneView struct {
	update.View
	wrong error
}

// viewFor returns what an update of a location is held against: its hosts, and what is accepted at names of their zones.
func viewFor(tx *store.Tx, p *place) (*zoneView, error) {
	v := &zoneView{}
	byName := map[dnsname.Name]store.Zone{}
	for _, h := range p.hosts {
		z, err := zones.ByID(tx, h.ZoneID)
		if err != nil {
			return nil, err
		}
		byName[z.Name()] = z
		v.Hosts = append(v.Hosts, update.Host{Name: h.Name(), Follows: h.Follows(), Now: h.At(), Place: h.follows.Place})
	}
	for name := range byName {
		v.Zones = append(v.Zones, name)
	}
	slices.SortFunc(v.Zones, func(a, b dnsname.Name) int { return a.Compare(b) })
	v.At = func(name dnsname.Name) (list []record.Record) {
		for _, zone := range v.Zones {
			if name.IsAtOrBelow(zone) {
				var err error
				if list, err = acceptedAt(tx, p, byName[zone], name); err != nil {
					v.wrong = err
				}
			}
		}
		return list
	}
	return v, nil
}

// acceptedAt returns the records at a name as they are accepted, with what the transaction has taken already of the hosts of a location.
func acceptedAt(tx *store.Tx, p *place, z store.Zone, name dnsname.Name) ([]record.Record, error) {
	if z.RevisionID == nil {
		return nil, nil
	}
	revision, err := zones.Contents(tx, *z.RevisionID)
	if err != nil {
		return nil, err
	}
	owners, err := zones.OwnersOf(tx, z.ID)
	if err != nil {
		return nil, err
	}
	for i, h := range owners.Hosts {
		if at := slices.IndexFunc(p.hosts, func(f follower) bool { return f.ID == h.ID }); at >= 0 {
			owners.Hosts[i] = p.hosts[at].Host
		}
	}
	return layers.Over(revision.Among([]dnsname.Name{name}), owners.Layers()).Contents.At(name), nil
}

// prefixLength is how many bits the prefix of a location has; 64 where none was reported.
func (p *place) prefixLength() int {
	for _, l := range p.lines.List {
		if len(l.Prefixes) > 0 {
			return l.Prefixes[0].Bits()
		}
	}
	return 64
}
