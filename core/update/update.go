// Package update reads dynamic updates (RFC 2136) of names that follow an address. It decides what an update message is answered, and which addresses it reports; who sent it,
// and where addresses are kept, it does not know. Of a zone it changes the addresses of the sender's hosts and nothing else.
package update

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/core/record"
)

// View is what an update is held against.
type View struct {
	Zones []dnsname.Name // that have hosts of the sender
	Hosts []Host         // of the sender
	// At returns the records at a name as they are accepted, whatever a provider serves at the moment.
	At func(name dnsname.Name) []record.Record
}

// Host is a name that the sender may update, with the addresses that it has.
type Host struct {
	Name    dnsname.Name
	Follows dynaddr.Families
	Now     dynaddr.Addresses
	Place   *dynaddr.Place // below the prefix of its uplink; nil for the uplink's own address
}

// Change is what an update makes of one host.
type Change struct {
	Host dnsname.Name
	dynaddr.Addresses
	Gone dynaddr.Families // these families have no address any more
}

// Decision is what an update message is answered, and what it changes where that is NOERROR.
type Decision struct {
	Rcode   int
	Reason  string   // why it is refused, for the logbook
	Changes []Change // in the order of names; of hosts about which something is said, also where that is what they have
	Lease   uint32   // seconds for which the client asks (RFC 9664); 0 for no lease
}

// Read decides about an update message by RFC 2136 section 3: its zone, its prerequisites, then its updates. Nothing changes unless all of it can be done.
func Read(m *dns.Msg, v View) Decision {
	refuse := func(rcode int, format string, args ...any) Decision {
		return Decision{Rcode: rcode, Reason: fmt.Sprintf(format, args...)}
	}
	if m.Opcode != dns.OpcodeUpdate || len(m.Question) != 1 || m.Question[0].Qtype != dns.TypeSOA {
		return refuse(dns.RcodeFormatError, "the zone section is not one zone")
	}
	zone, err := dnsname.Parse(m.Question[0].Name)
	if err != nil || m.Question[0].Qclass != dns.ClassINET {
		return refuse(dns.RcodeNotAuth, "%q is no zone here", m.Question[0].Name)
	}
	if !slices.Contains(v.Zones, zone) {
		return refuse(dns.RcodeNotAuth, "%s is no zone with hosts of this key", zone.Unicode())
	}
	for _, rr := range m.Answer {
		if rcode, reason := prerequisite(rr, zone, m.Answer, v); rcode != dns.RcodeSuccess {
			return refuse(rcode, "%s", reason)
		}
	}
	for _, rr := range m.Ns {
		if rcode, reason := formOf(rr, zone); rcode != dns.RcodeSuccess {
			return refuse(rcode, "%s", reason)
		}
	}
	d := Decision{Lease: leaseOf(m)}
	hosts := map[dnsname.Name]*draft{}
	for _, rr := range m.Ns {
		name, _ := dnsname.Parse(rr.Header().Name) // it was read before
		h, known := hosts[name]
		if !known {
			i := slices.IndexFunc(v.Hosts, func(h Host) bool { return h.Name == name })
			if i < 0 {
				return refuse(dns.RcodeRefused, "%s is no host of this key", name.Unicode())
			}
			h = &draft{Host: v.Hosts[i], next: v.Hosts[i].Now}
			hosts[name] = h
		}
		if reason := h.take(rr); reason != "" {
			return refuse(dns.RcodeRefused, "%s", reason)
		}
	}
	for name, h := range hosts {
		if h.said != (dynaddr.Families{}) {
			d.Changes = append(d.Changes, h.change(name))
		}
	}
	slices.SortFunc(d.Changes, func(a, b Change) int { return a.Host.Compare(b.Host) })
	return d
}

// within returns the name of a record if it is in the zone.
func within(rr dns.RR, zone dnsname.Name) (name dnsname.Name, is bool) {
	name, err := dnsname.Parse(rr.Header().Name)
	return name, err == nil && name.IsAtOrBelow(zone)
}

// isEmpty reports whether a record of an update has no data.
func isEmpty(rr dns.RR) bool {
	return rr.Header().Rdlength == 0
}

// prerequisite holds one record of the prerequisite section against what is accepted (RFC 2136 section 3.2).
func prerequisite(rr dns.RR, zone dnsname.Name, all []dns.RR, v View) (rcode int, reason string) {
	h := rr.Header()
	name, ours := within(rr, zone)
	switch {
	case h.Ttl != 0:
		return dns.RcodeFormatError, "a prerequisite has a TTL"
	case !ours:
		return dns.RcodeNotZone, fmt.Sprintf("%s is not in zone %s", h.Name, zone.Unicode())
	}
	at := v.At(name)
	of := func(t uint16) (data []string) {
		for _, r := range at {
			if uint16(r.Type) == t {
				data = append(data, string(r.Data))
			}
		}
		slices.Sort(data)
		return data
	}
	switch h.Class {
	case dns.ClassANY:
		switch {
		case !isEmpty(rr):
			return dns.RcodeFormatError, "a prerequisite about existence has data"
		case h.Rrtype == dns.TypeANY && len(at) == 0:
			return dns.RcodeNameError, fmt.Sprintf("%s has no records", name.Unicode())
		case h.Rrtype != dns.TypeANY && len(of(h.Rrtype)) == 0:
			return dns.RcodeNXRrset, fmt.Sprintf("%s has no %s records", name.Unicode(), dns.Type(h.Rrtype))
		}
	case dns.ClassNONE:
		switch {
		case !isEmpty(rr):
			return dns.RcodeFormatError, "a prerequisite about existence has data"
		case h.Rrtype == dns.TypeANY && len(at) > 0:
			return dns.RcodeYXDomain, fmt.Sprintf("%s has records", name.Unicode())
		case h.Rrtype != dns.TypeANY && len(of(h.Rrtype)) > 0:
			return dns.RcodeYXRrset, fmt.Sprintf("%s has %s records", name.Unicode(), dns.Type(h.Rrtype))
		}
	case dns.ClassINET:
		var want []string
		for _, other := range all {
			if o := other.Header(); o.Class == dns.ClassINET && o.Rrtype == h.Rrtype && dns.CanonicalName(o.Name) == dns.CanonicalName(h.Name) {
				r, err := record.FromRR(other)
				if err != nil {
					return dns.RcodeFormatError, "a prerequisite cannot be read"
				}
				want = append(want, string(r.Data))
			}
		}
		slices.Sort(want)
		if !slices.Equal(slices.Compact(want), of(h.Rrtype)) {
			return dns.RcodeNXRrset, fmt.Sprintf("%s has other %s records", name.Unicode(), dns.Type(h.Rrtype))
		}
	default:
		return dns.RcodeFormatError, "a prerequisite has a class that there is not"
	}
	return dns.RcodeSuccess, ""
}

// formOf looks at the form of one record of the update section (RFC 2136 section 3.4.1).
func formOf(rr dns.RR, zone dnsname.Name) (rcode int, reason string) {
	h := rr.Header()
	if _, ours := within(rr, zone); !ours {
		return dns.RcodeNotZone, fmt.Sprintf("%s is not in zone %s", h.Name, zone.Unicode())
	}
	transfers := []uint16{dns.TypeAXFR, dns.TypeIXFR, dns.TypeMAILA, dns.TypeMAILB}
	wrong := slices.Contains(transfers, h.Rrtype)
	switch h.Class {
	case dns.ClassINET:
		wrong = wrong || h.Rrtype == dns.TypeANY || isEmpty(rr)
	case dns.ClassANY:
		wrong = wrong || h.Ttl != 0 || !isEmpty(rr)
	case dns.ClassNONE:
		wrong = wrong || h.Ttl != 0 || h.Rrtype == dns.TypeANY || isEmpty(rr)
	default:
		wrong = true
	}
	if wrong {
		return dns.RcodeFormatError, fmt.Sprintf("an update of %s cannot be read", h.Name)
	}
	return dns.RcodeSuccess, ""
}

// draft is a host while an update is read.
type draft struct {
	Host
	next dynaddr.Addresses
	said dynaddr.Families // of these the update says something
}

// take does one record of the update section (RFC 2136 section 3.4.2), and returns why it is refused. DHCID records beside addresses (RFC 4701) are accepted and not kept.
func (h *draft) take(rr dns.RR) (refused string) {
	head := rr.Header()
	switch {
	case head.Rrtype == dns.TypeDHCID:
		return ""
	case head.Class == dns.ClassANY && head.Rrtype == dns.TypeANY: // of this name: the addresses, and nothing else
		h.remove(dynaddr.Families{V4: true, V6: true}, netip.Addr{})
		return ""
	case head.Rrtype != dns.TypeA && head.Rrtype != dns.TypeAAAA:
		return fmt.Sprintf("%s: a host has address records only, no %s", h.Name.Unicode(), dns.Type(head.Rrtype))
	}
	family := dynaddr.Families{V4: head.Rrtype == dns.TypeA, V6: head.Rrtype == dns.TypeAAAA}
	if family.V4 && !h.Follows.V4 || family.V6 && !h.Follows.V6 {
		if head.Class != dns.ClassINET {
			return "" // there is none to remove
		}
		return fmt.Sprintf("%s does not follow %s records", h.Name.Unicode(), dns.Type(head.Rrtype))
	}
	var addr netip.Addr
	switch r := rr.(type) {
	case *dns.A:
		addr, _ = netip.AddrFromSlice(r.A.To4())
	case *dns.AAAA:
		addr, _ = netip.AddrFromSlice(r.AAAA.To16())
	}
	if head.Class != dns.ClassINET {
		h.remove(family, addr)
		return ""
	}
	if !addr.IsValid() {
		return fmt.Sprintf("an address of %s cannot be read", h.Name.Unicode())
	}
	if family.V4 {
		if h.said.V4 && h.next.V4.IsValid() && h.next.V4 != addr {
			return fmt.Sprintf("%s: a host has one IPv4 address, not two", h.Name.Unicode())
		}
		h.next.V4, h.said.V4 = addr, true
		return ""
	}
	if h.said.V6 && h.next.V6.IsValid() && h.next.V6 != addr {
		return fmt.Sprintf("%s: a host has one IPv6 address, not two", h.Name.Unicode())
	}
	h.next.V6, h.said.V6 = addr, true
	return ""
}

// remove takes addresses out: those of families, or one of them alone where it is given.
func (h *draft) remove(f dynaddr.Families, only netip.Addr) {
	if f.V4 && h.Follows.V4 && (!only.IsValid() || only == h.next.V4) {
		h.next.V4, h.said.V4 = netip.Addr{}, true
	}
	if f.V6 && h.Follows.V6 && (!only.IsValid() || only == h.next.V6) {
		h.next.V6, h.said.V6 = netip.Addr{}, true
	}
}

// change returns what the update makes of the host.
func (h *draft) change(name dnsname.Name) Change {
	c := Change{Host: name}
	if h.said.V4 {
		c.V4, c.Gone.V4 = h.next.V4, !h.next.V4.IsValid()
	}
	if h.said.V6 {
		c.V6, c.Gone.V6 = h.next.V6, !h.next.V6.IsValid()
	}
	return c
}

// leaseOption is the EDNS option Update Lease (RFC 9664 section 4).
const leaseOption = 2

// leaseOf returns the lease that a client asks for, in seconds; 0 for none.
func leaseOf(m *dns.Msg) uint32 {
	opt := m.IsEdns0()
	if opt == nil {
		return 0
	}
	for _, o := range opt.Option {
		switch o := o.(type) {
		case *dns.EDNS0_UL:
			return o.Lease
		case *dns.EDNS0_LOCAL:
			if o.Code == leaseOption && len(o.Data) >= 4 {
				return binary.BigEndian.Uint32(o.Data)
			}
		}
	}
	return 0
}
