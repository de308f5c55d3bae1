package layers

import (
	"net/netip"
	"slices"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// Delegation is what a parent zone should have of a child: NS, glue and DS (RFC 1034 section 4.2.1, RFC 4035 section 2.4).
type Delegation struct {
	Name        dnsname.Name
	TTL         uint32         // of NS, glue and DS, seconds
	Nameservers []dnsname.Name // sorted; none where the delegation has ended
	Hosts       []Host         // nameservers at or below the child, which need glue; sorted by name
	DS          []record.Data  // sorted
	Owned       []dnsname.Name // names that had glue at any time: what is there of them belongs to the child
}

// Host is a nameserver with the addresses that a parent serves of it.
type Host struct {
	Name      dnsname.Name
	Addresses []netip.Addr // sorted
}

// OfChild returns the layer of a delegation. It owns the NS and DS sets of the child and every address of its glue: what the revision has
// there is replaced, and removed where the delegation has none.
func OfChild(d Delegation) Layer {
	l := Layer{Slot: Delegated, Name: d.Name, Keys: []record.Key{{Name: d.Name, Type: record.NS}, {Name: d.Name, Type: record.DS}}}
	add := func(name dnsname.Name, t record.Type, data []record.Data) {
		if len(data) > 0 {
			l.Sets = append(l.Sets, record.NewSet(name, t, d.TTL, data...))
		}
	}
	var servers []record.Data
	for _, n := range d.Nameservers {
		servers = append(servers, record.Data(n.String()))
	}
	add(d.Name, record.NS, servers)
	if len(servers) == 0 { // a DS without a delegation says nothing
		d.DS, d.Hosts = nil, nil
	}
	add(d.Name, record.DS, d.DS)
	for _, name := range d.Owned {
		l.Keys = append(l.Keys, record.Key{Name: name, Type: record.A}, record.Key{Name: name, Type: record.AAAA})
	}
	for _, h := range d.Hosts {
		var v4, v6 []record.Data
		for _, a := range h.Addresses {
			if a.Is4() {
				v4 = append(v4, record.Data(a.String()))
			} else {
				v6 = append(v6, record.Data(a.String()))
			}
		}
		add(h.Name, record.A, v4)
		add(h.Name, record.AAAA, v6)
		if !slices.Contains(d.Owned, h.Name) {
			l.Keys = append(l.Keys, record.Key{Name: h.Name, Type: record.A}, record.Key{Name: h.Name, Type: record.AAAA})
		}
	}
	return l
}

// delegated puts the delegations of children in the place of what a revision has at their keys.
func delegated(c record.Contents, list []Layer, owned map[record.Key]bool) record.Contents {
	for _, l := range list {
		if l.Slot == Delegated {
			own(owned, l.Keys)
			c = c.Without(l.Keys...).With(l.Sets...)
		}
	}
	return c
}
