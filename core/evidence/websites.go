package evidence

import (
	"fmt"
	"net/netip"
	"slices"

	"beacon/core/arrival"
	"beacon/core/dnsname"
	"beacon/core/record"
)

// mostAddresses bounds how many addresses of a site are looked at.
const mostAddresses = 8

// Targets returns the addresses that the nameservers and the resolvers lead to for a site, the nameservers' first.
func (s Sweep) Targets(site dnsname.Name, wanted []dnsname.Name) (list []netip.Addr) {
	add := func(l arrival.Lead) {
		for _, a := range l.Addresses {
			if !slices.Contains(list, a) && len(list) < mostAddresses {
				list = append(list, a)
			}
		}
	}
	for _, a := range s.Answering(wanted) {
		add(s.Lead(a.String(), a.Sets, site))
	}
	for _, r := range s.Resolvers {
		add(s.Lead(r.Name, r.Sets, site))
	}
	return list
}

// Aliases returns the names outside the zone that nameservers or resolvers say a site is an alias of.
func (s Sweep) Aliases(site dnsname.Name) (list []dnsname.Name) {
	add := func(sets []Observed) {
		for _, o := range sets {
			if o.Key.Name != site || o.Answer != Positive {
				continue
			}
			for _, d := range o.Data {
				if _, err := netip.ParseAddr(string(d)); err == nil {
					continue
				}
				if target, err := dnsname.Parse(string(d)); err == nil && !slices.Contains(list, target) {
					list = append(list, target)
				}
			}
		}
	}
	for _, a := range s.Servers {
		add(a.Sets)
	}
	for _, r := range s.Resolvers {
		add(r.Sets)
	}
	return list
}

// Answering returns the answers of the nameservers that shall answer: the wanted ones, or else those that the parents give.
func (s Sweep) Answering(wanted []dnsname.Name) []ServerAnswer {
	if len(wanted) == 0 {
		for _, p := range s.Parents {
			wanted = append(wanted, p.NS...)
		}
	}
	return ServersOf(s, wanted)
}

// Lead reads where somebody's answers lead for a site, over an alias too.
func (s Sweep) Lead(who string, sets []Observed, site dnsname.Name) arrival.Lead {
	l := arrival.Lead{Who: who}
	for _, o := range sets {
		if o.Key.Name != site || o.Key.Type != record.A && o.Key.Type != record.AAAA {
			continue
		}
		if o.Answer != Positive {
			if !o.Absent() && l.Problem == "" {
				l.Problem = fmt.Sprintf("it does not answer for %s: %s", KeyText(o.Key), o.Answer)
			}
			continue
		}
		for _, d := range o.Data {
			if a, err := netip.ParseAddr(string(d)); err == nil {
				l.Addresses = append(l.Addresses, a)
				continue
			}
			for _, b := range s.Beyond {
				if name, err := dnsname.Parse(string(d)); err != nil || b.Name != name {
					continue
				}
				if l.Addresses = append(l.Addresses, b.Addresses...); b.Problem != "" {
					l.Problem = dnsname.Short(b.Name) + ": " + b.Problem
				}
			}
		}
	}
	slices.SortFunc(l.Addresses, netip.Addr.Compare)
	l.Addresses = slices.Compact(l.Addresses)
	return l
}
