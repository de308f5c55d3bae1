package delegation

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
)

// judgeGlue holds the addresses that come with the delegation against those that the zone has itself (RFC 9471).
func (j *judge) judgeGlue() {
	for _, name := range j.set {
		if !name.IsAtOrBelow(j.plan.Domain) {
			continue
		}
		glue, child := j.glue(), j.hosts()
		given := glue[name]
		switch {
		case len(given) == 0 && !j.parentsKnowMore():
			j.find("glue-missing", finding.Error, dnsname.Short(name),
				fmt.Sprintf("%s lies in the domain itself, and the parent has no address for it: resolvers cannot find it.", dnsname.Short(name)),
				"Give its addresses at the registrar (it may call this host objects or glue records).",
				fmt.Sprintf("the parent's referral to %s names %s, and has no A or AAAA record for it", j.short, dnsname.Short(name)))
		case len(child[name]) > 0:
			j.compareGlue(name, given, child[name])
		}
	}
	j.judgeForeign()
}

// judgeForeign looks for addresses that come with the delegation though they are not the parent's to give.
func (j *judge) judgeForeign() {
	told := map[dnsname.Name]bool{}
	for _, p := range j.s.Parents {
		for _, g := range p.Foreign {
			if !told[g.Name] {
				told[g.Name] = true
				j.find("glue-unneeded", finding.Notice, dnsname.Short(g.Name),
					fmt.Sprintf("The parent serves addresses for %s, which lies outside its zone. Resolvers must not use them, and they go stale unseen.", dnsname.Short(g.Name)),
					"Nothing to do, unless the registrar lets you remove them.", addressLine(p.Server.String(), g.Name, g.Addresses))
			}
		}
	}
}

// parentsKnowMore reports whether a parent server answers from the zone itself, and so gives no glue to look at.
func (j *judge) parentsKnowMore() bool {
	return slices.ContainsFunc(j.s.Parents, func(p evidence.ParentAnswer) bool { return p.ChildToo })
}

// glue returns the addresses that any parent server gives, by name.
func (j *judge) glue() map[dnsname.Name][]netip.Addr {
	out := map[dnsname.Name][]netip.Addr{}
	for _, p := range j.s.Parents {
		for _, g := range p.Glue {
			out[g.Name] = union(out[g.Name], g.Addresses)
		}
	}
	return out
}

// hosts returns the addresses that the zone has for the nameservers within it.
func (j *judge) hosts() map[dnsname.Name][]netip.Addr {
	out := map[dnsname.Name][]netip.Addr{}
	for _, a := range j.inForce() {
		for _, g := range a.Hosts {
			out[g.Name] = union(out[g.Name], g.Addresses)
		}
	}
	return out
}

func union(a, b []netip.Addr) []netip.Addr {
	a = slices.Clone(a)
	for _, addr := range b {
		if !slices.Contains(a, addr) {
			a = append(a, addr)
		}
	}
	slices.SortFunc(a, netip.Addr.Compare)
	return a
}

func lacking(a, b []netip.Addr) (out []netip.Addr) {
	for _, addr := range a {
		if !slices.Contains(b, addr) {
			out = append(out, addr)
		}
	}
	return out
}

func (j *judge) compareGlue(name dnsname.Name, given, own []netip.Addr) {
	seen := []string{addressLine("the parent's glue", name, given), addressLine("the zone itself", name, own)}
	if stale := lacking(given, own); len(stale) > 0 {
		j.find("glue-stale", finding.Warning, dnsname.Short(name),
			fmt.Sprintf("The parent has glue for %s at %s, which the zone does not name; it is left over.", dnsname.Short(name), joinAddresses(stale)),
			"Correct the host's addresses at the registrar.", seen...)
	}
	if more := lacking(own, given); len(more) > 0 {
		j.find("glue-incomplete", finding.Notice, dnsname.Short(name),
			fmt.Sprintf("The zone has %s for %s, which the parent does not give.", joinAddresses(more), dnsname.Short(name)),
			"Add the address at the registrar.", seen...)
	}
}

func joinAddresses(list []netip.Addr) string {
	texts := make([]string, len(list))
	for i, a := range list {
		texts[i] = a.String()
	}
	return strings.Join(texts, ", ")
}

func addressLine(who string, name dnsname.Name, list []netip.Addr) string {
	return fmt.Sprintf("%s: %s at %s", who, dnsname.Short(name), joinAddresses(list))
}
