package rules

import (
	"fmt"
	"net/netip"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

// targetRules are about names that records point at.
var targetRules = []rule{
	{Rule: Rule{"address-as-target", finding.Error, "A record that has to name a host names an IP address.", "Name the host; its address belongs to the host's own A or AAAA record."},
		types: pointing,
		set: eachTarget(func(v *view, s record.Set, t dnsname.Name, say sayer) {
			text := strings.TrimSuffix(strings.TrimSuffix(t.String(), "."), "."+strings.TrimSuffix(v.Name.String(), "."))
			if _, err := netip.ParseAddr(text); err == nil {
				say(s.Key(), fmt.Sprintf("%s is an address; %s names a host.", text, s.Type))
			}
		})},
	{Rule: Rule{"web-address-as-target", finding.Warning, "A record points at something with a colon or a slash in it, as a web address has.",
		"Leave out the scheme (https://), the path and the port: only the host's name belongs here."},
		types: pointing,
		set: eachTarget(func(_ *view, s record.Set, t dnsname.Name, say sayer) {
			if webLike(t) {
				say(s.Key(), fmt.Sprintf("%s looks like a web address.", t.Unicode()))
			}
		})},
	{Rule: Rule{"zone-name-repeated-in-target", finding.Warning, "A record points at a name that ends with the zone's name twice, as it does where a full name is written without its final dot.",
		"Write the final dot, or the name relative to the zone."},
		types: pointing,
		set: eachTarget(func(v *view, s record.Set, t dnsname.Name, say sayer) {
			if once, repeated := v.withoutRepetition(t); repeated {
				say(s.Key(), fmt.Sprintf("%s ends with the zone's name twice; %s is meant, probably.", t.Unicode(), once.Unicode()), retarget(s, t, once))
			}
		})},
	{Rule: Rule{"final-dot-missing", finding.Warning, "A record points at a name within the zone that does not exist and looks like a full name of another domain: its final dot is missing, probably.",
		"Write the final dot behind the name."},
		types: pointing,
		set: eachTarget(func(v *view, s record.Set, t dnsname.Name, say sayer) {
			if whole, ok := v.withoutZone(t); ok {
				say(s.Key(), fmt.Sprintf("%s is not in the zone; %s with a final dot is meant, probably.", t.Unicode(), whole.Unicode()), retarget(s, t, whole))
			}
		})},
	{Rule: Rule{"target-missing", finding.Warning, "A record points at a name within the zone that does not exist.", "Correct the name, or add the records of that host."},
		types: pointing,
		set: eachTarget(func(v *view, s record.Set, t dnsname.Name, say sayer) {
			_, dot := v.withoutZone(t)
			_, repeated := v.withoutRepetition(t)
			if v.ours(t) && !v.exists(t) && !dot && !repeated {
				say(s.Key(), fmt.Sprintf("%s does not exist.", t.Unicode()))
			}
		})},
	{Rule: Rule{"target-without-address", finding.Warning, "A record points at a host within the zone that has no address.", "Add an A or AAAA record to the host."},
		types: []record.Type{record.MX, record.NS, record.SRV},
		set: eachTarget(func(v *view, s record.Set, t dnsname.Name, say sayer) {
			if !v.ours(t) || !v.exists(t) || !v.at(t, record.CNAME).IsZero() || v.hasAddress(t) {
				return
			}
			if wild := v.wildcardFor(t); wild.IsZero() || len(v.Contents.At(t)) > 0 || !v.hasAddress(wild) && v.at(wild, record.CNAME).IsZero() {
				say(s.Key(), fmt.Sprintf("%s has neither an A nor an AAAA record.", t.Unicode()))
			}
		})},
	{Rule: Rule{"ns-at-cname", finding.Error, "A nameserver's name is a CNAME, which is not allowed (RFC 2181 section 10.3).", "Name the host that the CNAME points to, or give the nameserver addresses of its own."},
		types: []record.Type{record.NS}, set: atCNAME},
	{Rule: Rule{"mx-at-cname", finding.Warning, "A mail server's name is a CNAME, which is not allowed (RFC 2181 section 10.3, RFC 5321 section 5.1).", "Name the host that the CNAME points to."},
		types: []record.Type{record.MX}, set: atCNAME},
	{Rule: Rule{"srv-at-cname", finding.Warning, "A service's host is a CNAME, which is not allowed (RFC 2782).", "Name the host that the CNAME points to."},
		types: []record.Type{record.SRV}, set: atCNAME},
	{Rule: Rule{"points-at-itself", finding.Warning, "An SRV or PTR record points at its own name.", "Name the host that is meant."},
		types: []record.Type{record.SRV, record.PTR},
		set: eachTarget(func(_ *view, s record.Set, t dnsname.Name, say sayer) {
			if t == s.Name {
				say(s.Key(), "It points at itself.")
			}
		})},
}

var pointing = []record.Type{record.NS, record.MX, record.SRV, record.CNAME, record.PTR, record.DNAME, record.ALIAS}

// eachTarget calls a rule for each name that a set points at; the root, which says "none" (RFC 7505, RFC 2782), is none.
func eachTarget(do func(*view, record.Set, dnsname.Name, sayer)) func(*view, record.Set, sayer) {
	return func(v *view, s record.Set, say sayer) {
		for _, t := range v.targets {
			if !t.IsZero() && !t.IsRoot() {
				do(v, s, t, say)
			}
		}
	}
}

// ours reports whether a name lies in the zone and is not delegated away.
func (v *view) ours(name dnsname.Name) bool {
	return name.IsAtOrBelow(v.Name) && v.cutAbove(name).IsZero() && (name == v.Name || v.at(name, record.NS).IsZero())
}

// withoutZone returns what a name would be with a final dot where it was written, if that looks like the name of a host elsewhere.
func (v *view) withoutZone(name dnsname.Name) (dnsname.Name, bool) {
	if _, repeated := v.withoutRepetition(name); repeated || !v.ours(name) || name == v.Name || v.standsItself(name) {
		return name, false
	}
	whole, err := dnsname.Parse(name.Relative(v.Name))
	if err != nil || whole.NumLabels() < 2 {
		return name, false
	}
	labels := whole.Labels()
	top := labels[len(labels)-1]
	own := v.Name.Labels()
	switch top {
	case own[len(own)-1], "com", "net", "org", "info", "io", "example", "test", "eu", "de", "uk", "fr", "nl", "cloud", "app", "dev":
		return whole, true
	}
	return name, false
}

func atCNAME(v *view, s record.Set, say sayer) {
	for _, t := range v.targets {
		if t.IsAtOrBelow(v.Name) && !v.at(t, record.CNAME).IsZero() {
			say(s.Key(), fmt.Sprintf("%s is a CNAME to %s.", t.Unicode(), v.at(t, record.CNAME).Data[0].Target(record.CNAME).Unicode()))
		}
	}
}

// retarget returns the edit that lets a set point elsewhere.
func retarget(s record.Set, from, to dnsname.Name) Edit {
	data := make([]record.Data, len(s.Data))
	for i, d := range s.Data {
		data[i] = d
		if d.Target(s.Type) == from {
			data[i] = record.Data(strings.TrimSuffix(string(d), from.String()) + to.String())
		}
	}
	return Edit{Before: s, After: record.NewSet(s.Name, s.Type, s.TTL, data...)}
}
