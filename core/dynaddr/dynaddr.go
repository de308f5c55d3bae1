// Package dynaddr decides which addresses names have that follow a location. uplink.go judges what is reported of a line to the internet: is the address
// one that others could reach. follow.go decides, from the uplinks of a location and the policy of a name (policy.go), which address that has at a moment, and when it
// has another one without a further report. Who may report, and what time it is, it does not know.
package dynaddr

import (
	"fmt"
	"net/netip"
	"time"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/special"
)

// Addresses are at most one of each family; the zero Addr stands for none.
type Addresses struct {
	V4, V6 netip.Addr
}

// Families are the address families that a host follows.
type Families struct {
	V4 bool `json:"v4"`
	V6 bool `json:"v6"`
}

// Outcome is what becomes of a report; each is the word that the reporter is answered.
type Outcome string

// A report is taken over, says what is known already, is believed and taken over later, or is not believed. An address behind a provider's address translation is an
// outcome of its own: it is believed, and nobody reaches it.
const (
	Accepted    Outcome = "accepted"
	Unchanged   Outcome = "unchanged"
	Held        Outcome = "held"
	Unreachable Outcome = "unreachable"
	Refused     Outcome = "refused"
)

// Decision is the judgement of one report. Now holds the addresses that the name has after it.
type Decision struct {
	Outcome Outcome
	Reason  string // why it was not accepted
	Now     Addresses
	Until   time.Time // when what is held is taken; zero for no such moment
}

// String is the line that a reporter is answered: the outcome, the addresses that the name has, and why where there is a reason.
func (d Decision) String() string {
	line := string(d.Outcome)
	if d.Outcome != Refused {
		for _, a := range []netip.Addr{d.Now.V4, d.Now.V6} {
			if a.IsValid() {
				line += " " + a.String()
			}
		}
	}
	if d.Reason != "" {
		line += ": " + d.Reason
	}
	return line
}

// Read returns the addresses that a report names: the texts of its parameters v4 and v6 or, where both are empty, the
// address it came from.
func Read(v4, v6 string, peer netip.Addr) (Addresses, error) {
	var a Addresses
	if v4 == "" && v6 == "" {
		peer = peer.Unmap().WithZone("")
		if peer.Is4() {
			a.V4 = peer
		} else {
			a.V6 = peer
		}
		return a, nil
	}
	var err error
	if v4 != "" {
		if a.V4, err = readOne("v4", v4); err != nil {
			return Addresses{}, err
		}
	}
	if v6 != "" {
		if a.V6, err = readOne("v6", v6); err != nil {
			return Addresses{}, err
		}
	}
	return a, nil
}

func readOne(parameter, text string) (netip.Addr, error) {
	addr, err := netip.ParseAddr(text)
	switch {
	case err != nil:
		return addr, fmt.Errorf("%s: %.80q is no IP address", parameter, text)
	case addr.Zone() != "":
		return addr, fmt.Errorf("%s: %.80q names an interface (%%), so it means something on one machine only", parameter, text)
	case addr.Is4() && parameter == "v6":
		return addr, fmt.Errorf("v6: %s is an IPv4 address; report it as v4", addr)
	case addr.Is6() && parameter == "v4":
		return addr, fmt.Errorf("v4: %s is an IPv6 address; report it as v6", addr)
	}
	return addr, nil
}

// Unbelievable returns why nobody outside could reach an address, as a clause that goes on after it; empty where it is well, or within allow.
func Unbelievable(addr netip.Addr, allow []netip.Prefix) string {
	for _, net := range allow {
		if net.Contains(addr) {
			return ""
		}
	}
	if addr.Is6() && special.Plain(addr).Is4() {
		return "is an IPv4 address in IPv6 form (RFC 4291, RFC 6052); report it as v4"
	}
	return special.Why(addr)
}

// Sets returns the record sets of a host that stands at these addresses.
func Sets(host dnsname.Name, ttl uint32, a Addresses) (sets []record.Set) {
	if a.V4.IsValid() {
		sets = append(sets, record.NewSet(host, record.A, ttl, record.Data(a.V4.String())))
	}
	if a.V6.IsValid() {
		sets = append(sets, record.NewSet(host, record.AAAA, ttl, record.Data(a.V6.String())))
	}
	return sets
}
