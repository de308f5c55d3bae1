package reporter

import (
	"net/netip"
	"slices"
	"time"
)

// Address is an address of an interface.
type Address struct {
	netip.Prefix // with the length of the network that it is in
	Temporary    bool
	Tentative    bool          // its uniqueness is not known yet, or it is taken by another machine (RFC 4862 section 5.4)
	Deprecated   bool          // new connections do not use it (RFC 4862 section 5.5.4)
	Preferred    time.Duration // for how long it is preferred; Forever for no end
}

// Forever is a lifetime without an end.
const Forever = time.Duration(1<<63 - 1)

// shared are addresses behind a provider's address translation (RFC 6598): they are reported, since the service says what that means.
var shared = netip.MustParsePrefix("100.64.0.0/10")

// global reports whether an address could be reached from elsewhere. Whether it is believed is for the service to say.
func global(a netip.Addr) bool {
	return a.IsGlobalUnicast() && !a.IsLinkLocalUnicast() && !a.IsLoopback() && (!a.IsPrivate() || shared.Contains(a))
}

// of returns the addresses of a family that are there to stay, the best one first: the longest preferred one, then in the order of addresses, so that the choice is the same each time.
func of(list []Address, four bool) []Address {
	out := slices.DeleteFunc(slices.Clone(list), func(a Address) bool {
		return a.Addr().Is4() != four || a.Temporary && !four || a.Tentative || a.Deprecated || !global(a.Addr()) && !a.Addr().IsPrivate()
	})
	slices.SortStableFunc(out, func(a, b Address) int {
		switch {
		case global(a.Addr()) != global(b.Addr()):
			return order(global(a.Addr()))
		case a.Preferred != b.Preferred:
			return order(a.Preferred > b.Preferred)
		}
		return a.Addr().Compare(b.Addr())
	})
	return out
}

func order(first bool) int {
	if first {
		return -1
	}
	return 1
}

// Choose returns the address of a family that is reported of an interface: one that others could reach, and that stays. current is kept as long as it is one of them, although another one
// is preferred for longer. It is the zero Addr where there is none. Private addresses are chosen where there is no other: a service of an inner network takes them.
func Choose(list []Address, four bool, current netip.Addr) netip.Addr {
	all := of(list, four)
	if len(all) == 0 {
		return netip.Addr{}
	}
	best := all[0].Addr()
	for _, a := range all {
		if a.Addr() == current && global(current) == global(best) {
			return current
		}
	}
	return best
}

// Prefixes returns the IPv6 prefixes of an interface, cut to a length: the preferred one first, and none that is being withdrawn (RFC 9096). A prefix whose addresses are
// all deprecated is being withdrawn.
func Prefixes(list []Address, bits int) (out []netip.Prefix) {
	for _, a := range of(list, false) {
		if !global(a.Addr()) {
			continue
		}
		p := netip.PrefixFrom(a.Addr(), min(bits, 64)).Masked()
		if !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	return out
}
