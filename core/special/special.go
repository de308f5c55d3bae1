// Package special knows which addresses are not reachable from everywhere: the special-purpose addresses of IPv4 and IPv6 (RFC 6890, and the two
// registries of IANA that it begins), and multicast. What decides is the registries' column "Globally Reachable".
package special

import "net/netip"

// Range is a network of special-purpose addresses.
type Range struct {
	Net netip.Prefix
	Why string // what it is, as a clause that goes on after the address: "is private (RFC 1918)"
}

func of(why string, nets ...string) (list []Range) {
	for _, text := range nets {
		list = append(list, Range{netip.MustParsePrefix(text), why})
	}
	return list
}

func join(lists ...[]Range) (all []Range) {
	for _, list := range lists {
		all = append(all, list...)
	}
	return all
}

const documentation = "is for documentation only "

// Ranges are the networks that are not reachable from everywhere. Within some of them Except has addresses that are.
var Ranges = join(
	of("is not an address (RFC 1122)", "0.0.0.0/8"),
	of("is private (RFC 1918): only its own network reaches it", "10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16"),
	of("is shared behind the provider's address translation (RFC 6598): it is not reachable from outside", "100.64.0.0/10"),
	of("is this machine's own (loopback)", "127.0.0.0/8", "::1/128"),
	of("is link-local (RFC 3927): only its own link reaches it", "169.254.0.0/16"),
	of("is set aside for protocols (RFC 6890)", "192.0.0.0/24", "2001::/23"),
	of(documentation+"(RFC 5737)", "192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24"),
	of("is of the former 6to4 relays (RFC 7526)", "192.88.99.0/24"),
	of("is for benchmarks only (RFC 2544)", "198.18.0.0/15"),
	of("is a multicast address", "224.0.0.0/4", "ff00::/8"),
	of("is reserved (RFC 1112)", "240.0.0.0/4"),
	of("is not an address", "::/128"),
	of("is an IPv4 address in IPv6 form", "::ffff:0:0/96", "::/96"),
	of("is for translation within a network (RFC 8215)", "64:ff9b:1::/48"),
	of("is discarded by routers (RFC 6666)", "100::/64", "100:0:0:1::/64"),
	of(documentation+"(RFC 3849)", "2001:db8::/32"),
	of("is of a 6to4 tunnel (RFC 7526)", "2002::/16"),
	of(documentation+"(RFC 9637)", "3fff::/20"),
	of("is a segment of a network's own routing (RFC 9602)", "5f00::/16"),
	of("is private (RFC 4193): only its own network reaches it", "fc00::/7"),
	of("is link-local (RFC 4291): only its own link reaches it", "fe80::/10"),
	of("is site-local (RFC 3879): only its own network reaches it", "fec0::/10"),
)

// Except are networks within Ranges that are reachable from everywhere all the same.
var Except = []netip.Prefix{
	netip.MustParsePrefix("192.0.0.9/32"), netip.MustParsePrefix("192.0.0.10/32"), // anycast of RFC 7723 and RFC 8155
	netip.MustParsePrefix("2001:1::1/128"), netip.MustParsePrefix("2001:1::2/128"), netip.MustParsePrefix("2001:1::3/128"),
	netip.MustParsePrefix("2001:3::/32"), netip.MustParsePrefix("2001:4:112::/48"), netip.MustParsePrefix("2001:20::/28"), netip.MustParsePrefix("2001:30::/28"),
}

var (
	// global is all of IPv6 that is assigned for addresses that are reachable from everywhere (RFC 4291 section 2.5.4).
	global = netip.MustParsePrefix("2000::/3")
	// translated are IPv4 addresses as a translator shows them to hosts with IPv6 alone (RFC 6052 section 2.1).
	translated = netip.MustParsePrefix("64:ff9b::/96")
)

// Plain returns an address in the form in which it is judged: without a zone, and the IPv4 address where it is one in IPv6 form (RFC 4291 section 2.5.5.2,
// RFC 6052 section 2.1).
func Plain(addr netip.Addr) netip.Addr {
	addr = addr.WithZone("").Unmap()
	if translated.Contains(addr) {
		b := addr.As16()
		return netip.AddrFrom4([4]byte(b[12:]))
	}
	return addr
}

// Why returns why an address is not reachable from everywhere, as a clause that goes on after it, or "". Addresses in IPv6 form that stand for an IPv4
// address are judged as that.
func Why(addr netip.Addr) string {
	addr = Plain(addr)
	for _, p := range Except {
		if p.Contains(addr) {
			return ""
		}
	}
	for _, r := range Ranges {
		if r.Net.Contains(addr) {
			return r.Why
		}
	}
	switch {
	case !addr.IsValid():
		return "is not an address"
	case addr.Is6() && !global.Contains(addr):
		return "is not in use (RFC 4291)"
	}
	return ""
}

// Within reports whether a network has only addresses that are not reachable from everywhere: naming it means them.
func Within(p netip.Prefix) bool {
	p = p.Masked()
	for _, r := range Ranges {
		if r.Net.Bits() <= p.Bits() && r.Net.Contains(p.Addr()) {
			return true
		}
	}
	return p.Addr().Is6() && !p.Overlaps(global) && !p.Overlaps(translated)
}
