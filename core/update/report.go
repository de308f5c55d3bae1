package update

import (
	"fmt"
	"net/netip"
	"slices"

	"beacon/core/dynaddr"
)

// Report returns what the changes of an update say of the uplink that hosts follow. Hosts of one uplink share its addresses, so that an update has to agree about them, and
// removes an address of all of them or of none; refused says why it does not. bits is how many bits the prefix of the uplink has.
func Report(changes []Change, hosts []Host, bits int) (r dynaddr.Report, refused string) {
	for _, h := range hosts {
		c, said := changeOf(changes, h)
		if !said {
			continue
		}
		if c.V4.IsValid() {
			if r.V4.IsValid() && r.V4 != c.V4 {
				return r, "the hosts of an uplink have the same IPv4 address"
			}
			r.V4 = c.V4
		}
		if c.V6.IsValid() {
			if refused := h.add(&r, c.V6, bits); refused != "" {
				return r, refused
			}
		}
		r.Gone.V4, r.Gone.V6 = r.Gone.V4 || c.Gone.V4, r.Gone.V6 || c.Gone.V6
	}
	if r.V4.IsValid() && r.Gone.V4 || r.Gone.V6 && (r.V6.IsValid() || len(r.Prefixes) > 0) {
		return r, "one host of an uplink loses its address, and another one gets one"
	}
	for _, h := range hosts {
		c, _ := changeOf(changes, h)
		if r.Gone.V4 && h.Follows.V4 && h.Now.V4.IsValid() && !c.Gone.V4 || r.Gone.V6 && h.Follows.V6 && h.Now.V6.IsValid() && !c.Gone.V6 {
			return r, fmt.Sprintf("%s follows the same uplink, and its address is not removed", h.Name.Unicode())
		}
	}
	return r, ""
}

func changeOf(changes []Change, h Host) (c Change, said bool) {
	i := slices.IndexFunc(changes, func(c Change) bool { return c.Host == h.Name })
	if i < 0 {
		return c, false
	}
	return changes[i], true
}

// add adds the IPv6 address of a host to a report: that of its uplink, or the prefix that its place lies in.
func (h Host) add(r *dynaddr.Report, addr netip.Addr, bits int) (refused string) {
	if h.Place == nil {
		if r.V6.IsValid() && r.V6 != addr {
			return "the hosts of an uplink have the same IPv6 address, unless they have a place below its prefix"
		}
		r.V6 = addr
		return ""
	}
	prefix := netip.PrefixFrom(addr, bits).Masked()
	switch {
	case h.Place.At(prefix) != addr:
		return fmt.Sprintf("%s is not the place of %s below %s", addr, h.Name.Unicode(), prefix)
	case len(r.Prefixes) > 0 && r.Prefixes[0] != prefix:
		return "the hosts of an uplink lie below the same prefix"
	}
	r.Prefixes = []netip.Prefix{prefix}
	return ""
}
