package dynaddr

import (
	"fmt"
	"net/netip"
	"slices"
	"time"
)

// Uplink is one line of a location to the internet, as its reports say. The zero value has reported nothing.
type Uplink struct {
	V4         netip.Addr     `json:"v4,omitzero"`         // the newest address that was believed
	V6         netip.Addr     `json:"v6,omitzero"`         // the same
	Prefixes   []netip.Prefix `json:"prefixes,omitempty"`  // that are delegated to it, the preferred one first
	Seen       time.Time      `json:"seen,omitzero"`       // the last report that was not refused
	Lease      uint32         `json:"lease,omitempty"`     // seconds without a report, after which its addresses are not believed (RFC 9664); 0 where its policy says
	Translated netip.Addr     `json:"translated,omitzero"` // its IPv4 address is one behind its provider's address translation: nobody reaches it
	Claims     []Claim        `json:"claims,omitempty"`    // where a second source has to agree: what each named last
}

// Claim is what one source named last.
type Claim struct {
	Source string     `json:"source"`
	V4     netip.Addr `json:"v4,omitzero"`
	V6     netip.Addr `json:"v6,omitzero"`

	Prefix netip.Prefix `json:"prefix,omitzero"` // the preferred one
}

// mostClaims bounds how many sources of an uplink are remembered.
const mostClaims = 4

// Report is what one request says of an uplink, read.
type Report struct {
	Addresses
	Prefixes []netip.Prefix // delegated ones, the preferred one first
	Gone     Families       // these families have no address any more
	Peer     netip.Addr     // that it came from
	Source   string         // the token that it came with
	Lease    uint32         // seconds that its client asked for; 0 for none
	At       time.Time
}

// Judged is what an uplink is after a report, and what became of that.
type Judged struct {
	Uplink  Uplink
	Outcome Outcome // Accepted where something is new about the uplink; what its hosts make of it is for Follow
	Reason  string
}

// shared are addresses behind a provider's address translation (RFC 6598).
var shared = netip.MustParsePrefix("100.64.0.0/10")

// Take judges a report of an uplink. A family that the report does not name keeps its address. A report is refused as a whole where one of its addresses is not
// believed, and changes nothing then. follows are the families that the hosts of the location follow; allow are networks that are believed though private.
func (u Uplink) Take(p Policy, follows Families, r Report, allow []netip.Prefix) Judged {
	p = p.Over(Default())
	refuse := func(format string, args ...any) Judged { return Judged{u, Refused, fmt.Sprintf(format, args...)} }
	next := u
	next.Seen, next.Lease = r.At, r.Lease
	if !r.V4.IsValid() && !r.V6.IsValid() && len(r.Prefixes) == 0 && r.Gone == (Families{}) {
		return refuse("no address was reported")
	}
	if r.V4.IsValid() {
		switch why := p.believable(r.V4, allow); {
		case !follows.V4:
			return refuse("%s: no host here follows an IPv4 address", r.V4)
		case why != "" && shared.Contains(r.V4):
			next.V4, next.Translated = netip.Addr{}, r.V4
		case why != "":
			return refuse("%s %s", r.V4, why)
		default:
			next.V4, next.Translated = r.V4, netip.Addr{}
		}
	}
	if r.V6.IsValid() {
		if !follows.V6 {
			return refuse("%s: no host here follows an IPv6 address", r.V6)
		}
		if why := p.believable(r.V6, allow); why != "" {
			return refuse("%s %s", r.V6, why)
		}
		next.V6 = r.V6
	}
	if len(r.Prefixes) > 0 {
		if !follows.V6 {
			return refuse("%s: no host here follows an IPv6 address", r.Prefixes[0])
		}
		for _, one := range r.Prefixes {
			if why := prefixFault(p, one, allow); why != "" {
				return refuse("%s %s", one, why)
			}
		}
		next.Prefixes = slices.Clone(r.Prefixes)
	}
	if r.Gone.V4 {
		next.V4, next.Translated = netip.Addr{}, netip.Addr{}
	}
	if r.Gone.V6 {
		next.V6, next.Prefixes = netip.Addr{}, nil
	}
	switch *p.SecondSource {
	case PeerSource:
		peer := r.Peer.Unmap().WithZone("")
		switch {
		case r.V4.IsValid() && !next.Translated.IsValid() && peer.Is4() && peer != r.V4:
			return refuse("%s: the report comes from %s, which has to be the same", r.V4, peer)
		case r.V6.IsValid() && peer.Is6() && peer != r.V6:
			return refuse("%s: the report comes from %s, which has to be the same", r.V6, peer)
		case len(r.Prefixes) > 0 && peer.Is6() && !r.Prefixes[0].Contains(peer):
			return refuse("%s: the report comes from %s, which has to be within it", r.Prefixes[0], peer)
		}
	case TokenSource:
		var agreed bool
		if next, agreed = u.confirmed(next, r); !agreed {
			return Judged{next, Held, "another source has to name the same address"}
		}
	}
	if next.same(u) {
		return Judged{next, Unchanged, ""}
	}
	return Judged{next, Accepted, ""}
}

// prefixFault returns why a delegated prefix is not taken, as a clause; empty where it is.
func prefixFault(p Policy, n netip.Prefix, allow []netip.Prefix) string {
	switch {
	case !n.Addr().Is6() || n.Addr().Is4In6():
		return "is no IPv6 prefix"
	case n.Bits() < 16 || n.Bits() > 64:
		return "is no prefix of a line: those have 16 to 64 bits"
	case n != n.Masked():
		return "has bits set behind its length"
	}
	return p.believable(n.Addr(), allow)
}

// confirmed keeps what a source claims, and returns the uplink with what two of them agree about. agreed is false where the report alone has changed nothing.
func (u Uplink) confirmed(next Uplink, r Report) (Uplink, bool) {
	claims := slices.DeleteFunc(slices.Clone(u.Claims), func(c Claim) bool { return c.Source == r.Source })
	claim := Claim{Source: r.Source, V4: next.V4, V6: next.V6, Prefix: preferred(next)}
	backed := func(same func(Claim) bool) bool { return slices.ContainsFunc(claims, same) }
	v4 := backed(func(c Claim) bool { return c.V4 == claim.V4 })
	v6 := backed(func(c Claim) bool { return c.V6 == claim.V6 })
	prefix := backed(func(c Claim) bool { return c.Prefix == claim.Prefix })
	if claims = append(claims, claim); len(claims) > mostClaims {
		claims = claims[1:]
	}
	open := next.V4 != u.V4 && !v4 || next.V6 != u.V6 && !v6 || !slices.Equal(next.Prefixes, u.Prefixes) && !prefix
	if !v4 {
		next.V4 = u.V4
	}
	if !v6 {
		next.V6 = u.V6
	}
	if !prefix {
		next.Prefixes = u.Prefixes
	}
	next.Claims = claims
	return next, !open
}

func preferred(u Uplink) netip.Prefix {
	if len(u.Prefixes) == 0 {
		return netip.Prefix{}
	}
	return u.Prefixes[0]
}

// same reports whether two states name the same addresses.
func (u Uplink) same(o Uplink) bool {
	return u.V4 == o.V4 && u.V6 == o.V6 && u.Translated == o.Translated && slices.Equal(u.Prefixes, o.Prefixes)
}
