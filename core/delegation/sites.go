package delegation

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"beacon/core/arrival"
	"beacon/core/dnsname"
	"beacon/core/record"
)

// Sites gives the names below a domain that usually carry a site: its apex and www.
func Sites(domain dnsname.Name) []dnsname.Name {
	names := []dnsname.Name{domain}
	if www, err := domain.Child("www"); err == nil {
		names = append(names, www)
	}
	return names
}

// mostAddresses bounds how many addresses of a site are looked at.
const mostAddresses = 8

// Targets gives the addresses that the nameservers and the resolvers lead to for a site, the nameservers' first.
func (s Sweep) Targets(site dnsname.Name, wanted []dnsname.Name) (list []netip.Addr) {
	add := func(l arrival.Lead) {
		for _, a := range l.Addresses {
			if !slices.Contains(list, a) && len(list) < mostAddresses {
				list = append(list, a)
			}
		}
	}
	for _, a := range s.answering(wanted) {
		add(s.lead(a.String(), a.Sets, site))
	}
	for _, r := range s.Resolvers {
		add(s.lead(r.Name, r.Sets, site))
	}
	return list
}

// Aliases gives the names outside the zone that nameservers or resolvers say a site is an alias of.
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

// answering gives the answers of the nameservers that shall answer: the wanted ones, or else those that the parents give.
func (s Sweep) answering(wanted []dnsname.Name) []ServerAnswer {
	if len(wanted) == 0 {
		for _, p := range s.Parents {
			wanted = append(wanted, p.NS...)
		}
	}
	return serversOf(s, wanted)
}

// lead reads where somebody's answers lead for a site, over an alias too.
func (s Sweep) lead(who string, sets []Observed, site dnsname.Name) arrival.Lead {
	l := arrival.Lead{Who: who}
	for _, o := range sets {
		if o.Key.Name != site || o.Key.Type != record.A && o.Key.Type != record.AAAA {
			continue
		}
		if o.Answer != Positive {
			if !o.absent() && l.Problem == "" {
				l.Problem = fmt.Sprintf("it does not answer for %s: %s", watchedText(o.Key), o.Answer)
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
					l.Problem = short(b.Name) + ": " + b.Problem
				}
			}
		}
	}
	slices.SortFunc(l.Addresses, netip.Addr.Compare)
	l.Addresses = slices.Compact(l.Addresses)
	return l
}

// judgeSites has what was seen of the domain's sites judged.
func (j *judge) judgeSites() {
	if len(j.s.Sites) == 0 {
		return
	}
	e := arrival.Evidence{Domain: j.plan.Domain, At: j.now, Issuers: j.plan.Issuers, Above: j.above()}
	if j.plan.Writable != nil {
		e.Writes = &arrival.Writes{}
		for _, n := range j.set {
			if slices.Contains(j.plan.Writable, n) {
				e.Writes.At = append(e.Writes.At, n)
			} else {
				e.Writes.Not = append(e.Writes.Not, n)
			}
			answers := serversOf(j.s, []dnsname.Name{n})
			if len(answers) == 0 || len(knowing(answers)) < len(answers) {
				e.Writes.Silent = append(e.Writes.Silent, n)
			}
		}
	}
	for _, name := range j.s.Sites {
		e.Sites = append(e.Sites, j.site(name))
	}
	report := arrival.Judge(e)
	j.report.Arrival = &report
}

// above says what at the parents still leads elsewhere than to the nameservers that shall answer.
func (j *judge) above() (lacks []string) {
	want := j.plan.Wanted
	for _, p := range j.s.Parents {
		switch {
		case p.Answer == Silent:
			lacks = append(lacks, fmt.Sprintf("%s does not answer", p.Server))
		case len(want) == 0:
			want = p.NS
		case !SameSet(p.NS, want):
			lacks = append(lacks, fmt.Sprintf("%s leads to other nameservers: %s", p.Server, joinNames(p.NS)))
		}
	}
	return lacks
}

// site gathers what concerns one site.
func (j *judge) site(name dnsname.Name) arrival.Site {
	site := arrival.Site{Name: name}
	for _, p := range j.plan.Sites {
		if p.Name == name {
			site.Wanted = p.Addresses
		}
	}
	for _, a := range j.s.answering(j.plan.Wanted) {
		l := j.s.lead(a.Server.String(), a.Sets, name)
		if a.Answer != Positive {
			l = arrival.Lead{Who: a.Server.String(), Problem: "it does not answer for the zone"}
		}
		site.Servers = append(site.Servers, l)
		site.CAA = append(site.CAA, j.caa(a, name)...)
	}
	for _, v := range j.report.Resolvers {
		for _, r := range j.s.Resolvers {
			if r.Name != v.Name || r.Address != v.Address {
				continue
			}
			l := j.s.lead(r.Name, r.Sets, name)
			if r.Problem != "" || r.Refuses {
				l.Problem = "it gives no answer"
			}
			for _, o := range v.Sets {
				if o.Key.Name == name && o.Until != nil && (l.Until == nil || o.Until.After(*l.Until)) {
					l.Until = o.Until
				}
			}
			site.Resolvers = append(site.Resolvers, l)
		}
	}
	for _, c := range j.s.Contacts {
		if c.Name == name {
			site.Contacts = append(site.Contacts, c)
		}
	}
	return site
}

// caa gives what a nameserver says of CAA from a site's name up to the apex. Where the name is an alias, what is said at
// its end stands in its place (RFC 8659 section 3).
func (j *judge) caa(a ServerAnswer, site dnsname.Name) (list []arrival.CAASet) {
	for _, o := range a.CAA {
		if !site.IsAtOrBelow(o.Key.Name) {
			continue
		}
		c := arrival.CAASet{Who: a.Server.String(), Name: o.Key.Name}
		switch {
		case o.Answer != Positive && !o.absent():
			c.Problem = string(o.Answer)
		case o.Alias:
			for _, d := range o.Data { // what is at its end, or where it leads; a name has no blank, a CAA record has
				target, err := dnsname.Parse(string(d))
				i := slices.IndexFunc(j.s.Beyond, func(b Beyond) bool { return err == nil && !strings.Contains(string(d), " ") && b.Name == target })
				if i < 0 {
					c.Data = append(c.Data, d)
				} else if c.Data = append(c.Data, j.s.Beyond[i].CAA...); j.s.Beyond[i].Problem != "" {
					c.Problem = j.s.Beyond[i].Problem
				}
			}
		case o.Answer == Positive:
			c.Data = o.Data
		}
		list = append(list, c)
	}
	return list
}
