// Package dynaddr judges addresses that are reported for names that follow them: can the report be read, is the address
// one that others could reach, does it change anything. Who may report, and when, it does not know.
package dynaddr

import (
	"fmt"
	"net/netip"

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

// A report is taken over, says what is known already, or is not believed.
const (
	Accepted  Outcome = "accepted"
	Unchanged Outcome = "unchanged"
	Refused   Outcome = "refused"
)

// Decision is the judgement of one report. Now holds the addresses after it.
type Decision struct {
	Outcome Outcome
	Reason  string // why it was refused
	Now     Addresses
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

// Judge decides about a report. A family that the report says nothing of keeps its address. Addresses within allow are
// believed though nobody outside could reach them.
func Judge(follows Families, known, reported Addresses, allow []netip.Prefix) Decision {
	refuse := func(format string, args ...any) Decision {
		return Decision{Refused, fmt.Sprintf(format, args...), known}
	}
	now := known
	for _, one := range []struct {
		addr    netip.Addr
		follows bool
		into    *netip.Addr
		family  string
	}{{reported.V4, follows.V4, &now.V4, "IPv4"}, {reported.V6, follows.V6, &now.V6, "IPv6"}} {
		if !one.addr.IsValid() {
			continue
		}
		if !one.follows {
			return refuse("%s: this host follows no %s address", one.addr, one.family)
		}
		if why := Unbelievable(one.addr, allow); why != "" {
			return refuse("%s %s", one.addr, why)
		}
		*one.into = one.addr
	}
	switch {
	case !reported.V4.IsValid() && !reported.V6.IsValid():
		return refuse("no address was reported")
	case now == known:
		return Decision{Unchanged, "", now}
	}
	return Decision{Accepted, "", now}
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
