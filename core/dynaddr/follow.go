package dynaddr

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"time"
)

// Place is where a host is below the prefix of its uplink; the zero value for a host that has the uplink's own address.
type Place struct {
	Subnet    uint16    `json:"subnet"`    // the number of its network among those of the prefix
	Interface Interface `json:"interface"` // the last 64 bits of its address
}

// Interface is the interface part of an IPv6 address, its last 64 bits, as in "::1:2:3:4" (RFC 4291 section 2.5.1).
type Interface [8]byte

// MarshalText returns the form that UnmarshalText reads.
func (i Interface) MarshalText() ([]byte, error) { return []byte(i.String()), nil }

func (i Interface) String() string {
	var a [16]byte
	copy(a[8:], i[:])
	return netip.AddrFrom16(a).String()
}

// UnmarshalText reads an IPv6 address whose first 64 bits are zero.
func (i *Interface) UnmarshalText(text []byte) error {
	a, err := netip.ParseAddr(string(text))
	octets := a.As16()
	if err != nil || !a.Is6() || a.Zone() != "" || [8]byte(octets[:8]) != [8]byte{} || a.IsUnspecified() {
		return fmt.Errorf("%.60q is no interface part of an IPv6 address; write the last 64 bits, as in ::1:2:3:4", text)
	}
	copy(i[:], octets[8:])
	return nil
}

// At returns the address of a place below a prefix; the zero Addr where the subnet does not fit.
func (p Place) At(prefix netip.Prefix) netip.Addr {
	bits := 64 - prefix.Bits()
	if !prefix.IsValid() || bits < 0 || bits < 16 && int(p.Subnet) >= 1<<bits {
		return netip.Addr{}
	}
	a := prefix.Masked().Addr().As16()
	a[6] |= byte(p.Subnet >> 8)
	a[7] |= byte(p.Subnet)
	copy(a[8:], p.Interface[:])
	return netip.AddrFrom16(a)
}

// Followed is what a name has of one family, and what it waits for.
type Followed struct {
	Addr    netip.Addr `json:"addr,omitzero"`    // that the name has
	Since   time.Time  `json:"since,omitzero"`   // since when
	Uplink  int        `json:"uplink"`           // whose it is, by rank; -1 for a fallback, or none
	Waiting netip.Addr `json:"waiting,omitzero"` // the newest one, which is held
	Until   time.Time  `json:"until,omitzero"`   // by when that is taken without another report; zero where nothing waits
	Quick   int        `json:"quick,omitempty"`  // changes in a row that were quick
}

// Held reports whether a change waits.
func (f Followed) Held() bool { return !f.Until.IsZero() }

// Host is a name as it follows its location.
type Host struct {
	V4     Followed  `json:"v4"`
	V6     Followed  `json:"v6"`
	Silent time.Time `json:"silent,omitzero"` // since when nothing reports; zero while something does
}

// Now returns the addresses that a name has.
func (h Host) Now() Addresses { return Addresses{h.V4.Addr, h.V6.Addr} }

// Follows is how a host follows its location.
type Follows struct {
	Families
	Policy Policy
	Place  *Place // nil for the uplink's own IPv6 address
}

// Uplinks are those of a location, the best one first, and since when the location is watched: silence before its first report counts from then.
type Uplinks struct {
	List  []Uplink
	Since time.Time
}

// Follow returns what a name has at a moment: of the best uplink that reports the newest address that is believed, as soon as the policy lets it. next is when
// something changes without another report; zero for never. Following once more at the same moment changes nothing.
func Follow(f Follows, lines Uplinks, was Host, now time.Time, allow []netip.Prefix) (is Host, next time.Time) {
	p := f.Policy.Over(Default())
	is = was
	is.Silent = silentSince(p, lines, now)
	wanted4, from4 := wanted(p, lines, now, func(u Uplink) netip.Addr { return u.V4 }, allow)
	wanted6, from6 := wanted(p, lines, now, func(u Uplink) netip.Addr { return f.addressIn(u) }, allow)
	if !is.Silent.IsZero() {
		switch f.onSilence(lines) {
		case RemoveSilent:
			wanted4, from4, wanted6, from6 = netip.Addr{}, -1, netip.Addr{}, -1
		case FallbackSilent:
			wanted4, from4, wanted6, from6 = *p.FallbackV4, -1, *p.FallbackV6, -1
		}
	}
	if f.V4 {
		is.V4 = was.V4.moved(p, wanted4, from4, now)
	} else {
		is.V4 = Followed{}
	}
	if f.V6 {
		is.V6 = was.V6.moved(p, wanted6, from6, now)
	} else {
		is.V6 = Followed{}
	}
	return is, upcoming(p, lines, is, now)
}

// addressIn returns the IPv6 address that a host has at an uplink.
func (f Follows) addressIn(u Uplink) netip.Addr {
	if f.Place == nil {
		return u.V6
	}
	if len(u.Prefixes) > 0 {
		return f.Place.At(u.Prefixes[0])
	}
	if !u.V6.IsValid() {
		return netip.Addr{}
	}
	return f.Place.At(netip.PrefixFrom(u.V6, 64))
}

// wanted returns the address of the best uplink that has a believed one, and its rank. One that stopped reporting comes after those that report.
func wanted(p Policy, lines Uplinks, now time.Time, of func(Uplink) netip.Addr, allow []netip.Prefix) (addr netip.Addr, rank int) {
	rank = -1
	reports := false
	for i, u := range lines.List {
		a := of(u)
		if !a.IsValid() || p.believable(a, allow) != "" {
			continue
		}
		if alive := now.Before(u.Seen.Add(u.trusted(p))); rank < 0 || alive && !reports {
			addr, rank, reports = a, i, alive
		}
	}
	return addr, rank
}

// trusted is for how long after its last report an uplink counts as reporting.
func (u Uplink) trusted(p Policy) time.Duration {
	if u.Lease > 0 {
		return min(seconds(p.Failover), time.Duration(u.Lease)*time.Second)
	}
	return seconds(p.Failover)
}

// onSilence returns what becomes of a name when nothing reports. Where its policy does not say and a lease ended, its addresses are removed (RFC 9664 section 3).
func (f Follows) onSilence(lines Uplinks) Silent {
	if f.Policy.OnSilence == nil && slices.ContainsFunc(lines.List, func(u Uplink) bool { return u.Lease > 0 }) {
		return RemoveSilent
	}
	return *f.Policy.Over(Default()).OnSilence
}

// silentSince returns since when nothing reports; zero while something does, or where nobody is to notice.
func silentSince(p Policy, lines Uplinks, now time.Time) time.Time {
	at := silentAt(p, lines)
	if at.IsZero() || now.Before(at) {
		return time.Time{}
	}
	return at
}

// silentAt returns when the last uplink falls silent, if nothing is reported until then: after its lease, or after what the policy says. It is zero for never.
func silentAt(p Policy, lines Uplinks) (at time.Time) {
	leased := func(u Uplink) bool { return u.Lease > 0 }
	if *p.Silence > 0 && !slices.ContainsFunc(lines.List, leased) {
		at = lines.Since.Add(seconds(p.Silence))
	}
	for _, u := range lines.List {
		after := cmp.Or(u.Lease, *p.Silence)
		switch {
		case u.Seen.IsZero():
		case after == 0:
			return time.Time{}
		case u.Seen.Add(time.Duration(after) * time.Second).After(at):
			at = u.Seen.Add(time.Duration(after) * time.Second)
		}
	}
	return at
}

// freeChanges is how many quick changes are taken without a hold.
const freeChanges = 2

// hold returns how long a name stays after a number of quick changes.
func hold(p Policy, quick int) time.Duration {
	n := quick - freeChanges
	if n < 0 || *p.HoldDown == 0 {
		return 0
	}
	return min(seconds(p.HoldDown)<<min(n, 20), max(seconds(p.MaxHoldDown), seconds(p.HoldDown)))
}

// quick returns how many quick changes count at a moment: they are forgotten once the name has stayed for four times as long as it had to.
func (f Followed) quick(p Policy, now time.Time) int {
	if f.Since.IsZero() || now.Sub(f.Since) >= 4*max(hold(p, f.Quick), seconds(p.HoldDown)) {
		return 0
	}
	return f.Quick
}

// earliest is when a name may move.
func (f Followed) earliest(p Policy) time.Time {
	if f.Since.IsZero() {
		return f.Since
	}
	return f.Since.Add(max(seconds(p.MinInterval), hold(p, f.Quick)))
}

// moved returns what a name has once an address is wanted.
func (f Followed) moved(p Policy, addr netip.Addr, from int, now time.Time) Followed {
	if addr == f.Addr {
		f.Uplink, f.Waiting, f.Until = from, netip.Addr{}, time.Time{}
		return f
	}
	if at := f.earliest(p); now.Before(at) {
		f.Waiting, f.Until = addr, at
		return f
	}
	return Followed{Addr: addr, Since: now, Uplink: from, Quick: f.quick(p, now) + 1}
}

// upcoming is when something changes without another report; zero for never.
func upcoming(p Policy, lines Uplinks, is Host, now time.Time) (next time.Time) {
	note := func(at time.Time) {
		if at.After(now) && (next.IsZero() || at.Before(next)) {
			next = at
		}
	}
	note(is.V4.Until)
	note(is.V6.Until)
	note(silentAt(p, lines))
	if len(lines.List) > 1 {
		for _, u := range lines.List {
			if u.V4.IsValid() || u.V6.IsValid() || len(u.Prefixes) > 0 {
				note(u.Seen.Add(u.trusted(p)))
			}
		}
	}
	return next
}

// Change is what a report, or time alone, made of a host.
type Change struct{ Was, Is Host }

// Moved reports whether the name has another address.
func (c Change) Moved() bool { return c.Was.Now() != c.Is.Now() }

// Answer returns what a reporter is told: what became of its report at the hosts of its location.
func Answer(j Judged, r Report, hosts []Change) Decision {
	d := Decision{Outcome: j.Outcome, Reason: j.Reason}
	if len(hosts) > 0 {
		d.Now = hosts[0].Is.Now()
	} else {
		d.Now = Addresses{j.Uplink.V4, j.Uplink.V6}
	}
	if j.Outcome == Refused || j.Outcome == Held {
		return d
	}
	moved := false
	for _, h := range hosts {
		if h.Moved() && !moved {
			moved, d.Now = true, h.Is.Now()
		}
		for _, f := range []Followed{h.Is.V4, h.Is.V6} {
			if f.Held() && (d.Until.IsZero() || f.Until.Before(d.Until)) {
				d.Until = f.Until
			}
		}
	}
	translated := r.V4.IsValid() && r.V4 == j.Uplink.Translated
	switch {
	case translated && d.Now.V6.IsValid():
		d.Outcome, d.Reason = Unreachable, fmt.Sprintf("%s is behind the provider's address translation: nobody reaches it over IPv4; %s still works", r.V4, d.Now.V6)
	case translated && d.Now.V4.IsValid():
		d.Outcome, d.Reason = Unreachable, fmt.Sprintf("%s is behind the provider's address translation: nobody reaches it over IPv4; %s of another uplink still works", r.V4, d.Now.V4)
	case translated:
		d.Outcome, d.Reason = Unreachable, fmt.Sprintf("%s is behind the provider's address translation: nobody reaches it over IPv4; report an IPv6 address", r.V4)
	case moved:
		d.Outcome, d.Until = Accepted, time.Time{}
	case !d.Until.IsZero():
		d.Outcome, d.Reason = Held, "the address changes too often; the newest one is taken later"
	case len(hosts) > 0:
		d.Outcome = Unchanged
	}
	return d
}

// Status is how a host is, in a word.
type Status string

// The states of a host, the first that fits.
const (
	NeverReported Status = "waiting-for-first-report"
	IsSilent      Status = "silent"
	IsUnreachable Status = "unreachable" // its best uplink is behind address translation, and it has no IPv6 address
	IsFlapping    Status = "flapping"    // it changes so often that the next change waits
	IsHeld        Status = "held"        // a change waits for the least interval, or for a second source
	IsReporting   Status = "reporting"
)

// StatusOf returns how a host is at a moment.
func StatusOf(f Follows, lines Uplinks, h Host) Status {
	p := f.Policy.Over(Default())
	reported, translated := false, false
	for _, u := range lines.List {
		reported = reported || !u.Seen.IsZero()
		translated = translated || u.Translated.IsValid()
	}
	held := h.V4
	if !held.Held() {
		held = h.V6
	}
	switch {
	case !h.Silent.IsZero():
		return IsSilent
	case !reported:
		return NeverReported
	case translated && f.V4 && h.Now() == (Addresses{}):
		return IsUnreachable
	case held.Held() && hold(p, held.Quick) > 0:
		return IsFlapping
	case held.Held(), *p.SecondSource == TokenSource && h.Now() == (Addresses{}):
		return IsHeld
	}
	return IsReporting
}
