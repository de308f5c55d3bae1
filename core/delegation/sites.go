package delegation

import (
	"fmt"
	"slices"
	"strings"

	"beacon/core/arrival"
	"beacon/core/dnsname"
	"beacon/core/evidence"
)

// Sites returns the names below a domain that usually carry a site: its apex and www.
func Sites(domain dnsname.Name) []dnsname.Name {
	names := []dnsname.Name{domain}
	if www, err := domain.Child("www"); err == nil {
		names = append(names, www)
	}
	return names
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
			answers := evidence.ServersOf(j.s, []dnsname.Name{n})
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

// above returns what at the parents still leads elsewhere than to the nameservers that shall answer.
func (j *judge) above() (lacks []string) {
	want := j.plan.Wanted
	for _, p := range j.s.Parents {
		switch {
		case p.Answer == evidence.Silent:
			lacks = append(lacks, fmt.Sprintf("%s does not answer", p.Server))
		case len(want) == 0:
			want = p.NS
		case !SameSet(p.NS, want):
			lacks = append(lacks, fmt.Sprintf("%s returns other nameservers: %s", p.Server, joinNames(p.NS)))
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
	for _, a := range j.s.Answering(j.plan.Wanted) {
		l := j.s.Lead(a.Server.String(), a.Sets, name)
		if a.Answer != evidence.Positive {
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
			l := j.s.Lead(r.Name, r.Sets, name)
			if r.Problem != "" || r.Refuses {
				l.Problem = "it does not answer"
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

// caa returns what a nameserver says of CAA from a site's name up to the apex. Where the name is an alias, what is said at
// its end stands in its place (RFC 8659 section 3).
func (j *judge) caa(a evidence.ServerAnswer, site dnsname.Name) (list []arrival.CAASet) {
	for _, o := range a.CAA {
		if !site.IsAtOrBelow(o.Key.Name) {
			continue
		}
		c := arrival.CAASet{Who: a.Server.String(), Name: o.Key.Name}
		switch {
		case o.Answer != evidence.Positive && !o.Absent():
			c.Problem = string(o.Answer)
		case o.Alias:
			for _, d := range o.Data { // what is at its end, or where it leads; a name has no blank, a CAA record has
				target, err := dnsname.Parse(string(d))
				i := slices.IndexFunc(j.s.Beyond, func(b evidence.Beyond) bool {
					return err == nil && !strings.Contains(string(d), " ") && b.Name == target
				})
				if i < 0 {
					c.Data = append(c.Data, d)
				} else if c.Data = append(c.Data, j.s.Beyond[i].CAA...); j.s.Beyond[i].Problem != "" {
					c.Problem = j.s.Beyond[i].Problem
				}
			}
		case o.Answer == evidence.Positive:
			c.Data = o.Data
		}
		list = append(list, c)
	}
	return list
}
