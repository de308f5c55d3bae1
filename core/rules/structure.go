package rules

import (
	"fmt"
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

// structureRules are about what may stand where: CNAME, DNAME, delegations, wildcards.
var structureRules = []rule{
	{Rule: Rule{"cname-beside-data", finding.Error, "A CNAME is beside other data at one name (RFC 1034 section 3.6.2).",
		"Remove either the CNAME or the other records."},
		types: []record.Type{record.CNAME},
		set: func(v *view, s record.Set, say sayer) {
			for _, other := range v.Contents.At(s.Name) {
				if s.Name != v.Name && record.Collide(record.CNAME, other.Type) {
					say(s.Key(), fmt.Sprintf("The name also has %s records, which no CNAME may be beside.", other.Type))
					return
				}
			}
		}},
	{Rule: Rule{"several-cname", finding.Error, "A name has more than one CNAME (RFC 2181 section 10.1).", "Keep the intended one, remove the others."},
		types: []record.Type{record.CNAME},
		set: func(_ *view, s record.Set, say sayer) {
			if len(s.Data) > 1 {
				say(s.Key(), "A name can have one CNAME only.")
			}
		}},
	{Rule: Rule{"cname-at-apex", finding.Error, "A CNAME is at the apex, which always has SOA and NS records.", "Use an ALIAS, which gives the apex the addresses of another name, or write the addresses themselves as A and AAAA records."},
		types: []record.Type{record.CNAME},
		set: func(v *view, s record.Set, say sayer) {
			if s.Name == v.Name {
				alias := s
				alias.Type = record.ALIAS
				say(s.Key(), "The apex always has SOA and NS records, which no CNAME may be beside.", Edit{Before: s}, Edit{After: alias})
			}
		}},
	{Rule: Rule{"alias-beside-address", finding.Error, "An ALIAS is beside an address or a CNAME of the same name: it defines the addresses of the name.", "Remove either the ALIAS or the other records."},
		types: []record.Type{record.ALIAS},
		set: func(v *view, s record.Set, say sayer) {
			for _, t := range []record.Type{record.A, record.AAAA, record.CNAME} {
				if other := v.at(s.Name, t); !other.IsZero() {
					say(s.Key(), fmt.Sprintf("The name also has %s records; which addresses it has would be said twice.", t), Edit{Before: other})
					return
				}
			}
		}},
	{Rule: Rule{"several-alias", finding.Error, "A name has more than one ALIAS.", "Keep the intended one, remove the others."},
		types: []record.Type{record.ALIAS},
		set: func(_ *view, s record.Set, say sayer) {
			if len(s.Data) > 1 {
				say(s.Key(), "A name can follow one other name only.")
			}
		}},
	{Rule: Rule{"alias-loop", finding.Error, "An ALIAS points back to itself within the zone.", "Let it name the host that has the addresses."},
		types: []record.Type{record.ALIAS},
		set: func(v *view, s record.Set, say sayer) {
			path := []dnsname.Name{s.Name}
			for at := s.Data[0].Target(record.ALIAS); ; {
				path = append(path, at)
				next := v.at(at, record.ALIAS)
				if next.IsZero() {
					next = v.at(at, record.CNAME)
				}
				switch {
				case at == s.Name:
					say(s.Key(), fmt.Sprintf("It forms a loop: %s.", joinNames(path)))
					return
				case next.IsZero() || slices.Contains(path[:len(path)-1], at):
					return
				}
				at = next.Data[0].Target(next.Type)
			}
		}},
	{Rule: Rule{"cname-loop", finding.Error, "CNAME records form a loop: no client ever gets an answer.", "Point one of the names to the data."},
		types: []record.Type{record.CNAME},
		set: func(v *view, s record.Set, say sayer) {
			if path, end := v.follow(s); end == loops && path[0] == s.Name {
				say(s.Key(), fmt.Sprintf("It forms a loop: %s.", joinNames(append(path, s.Name))))
			}
		}},
	{Rule: Rule{"long-cname-chain", finding.Notice, "A name is reached over more than three CNAME records: each costs a question, and some resolvers give up.",
		"Let the first name point to the last one directly."},
		types: []record.Type{record.CNAME},
		set: func(v *view, s record.Set, say sayer) {
			if path, end := v.follow(s); end != loops && len(path) > 3 {
				say(s.Key(), fmt.Sprintf("It has a chain of %d CNAME records: %s.", len(path), joinNames(path)))
			}
		}},
	{Rule: Rule{"soa-below-apex", finding.Error, "An SOA record is below the apex.", "Remove the record."},
		types: []record.Type{record.SOA},
		set: func(v *view, s record.Set, say sayer) {
			if s.Name != v.Name {
				say(s.Key(), "Only the apex of a zone has an SOA record.", Edit{Before: s})
			}
		}},
	{Rule: Rule{"several-dname", finding.Error, "A name has more than one DNAME (RFC 6672 section 2.4).", "Keep the one that is meant."},
		types: []record.Type{record.DNAME},
		set: func(_ *view, s record.Set, say sayer) {
			if len(s.Data) > 1 {
				say(s.Key(), "A name can have one DNAME only.")
			}
		}},
	{Rule: Rule{"below-dname", finding.Error, "A record is below a DNAME, which redirects the whole branch (RFC 6672 section 2.4).", "Remove the DNAME, or what is below it."},
		types: []record.Type{record.DNAME},
		set: func(v *view, s record.Set, say sayer) {
			if hidden := v.below(s.Name); len(hidden) > 0 {
				say(hidden[0].Key(), fmt.Sprintf("It is below the DNAME of %s, where no resolver looks.", s.Name.Unicode()))
			}
		}},
	{Rule: Rule{"below-delegation", finding.Warning, "A record is below a delegation: the other nameservers answer there, and no client sees it.",
		"Put it into the delegated zone, or remove the delegation."},
		set: func(v *view, s record.Set, say sayer) {
			if s.Type == record.A || s.Type == record.AAAA || len(v.cuts) == 0 { // glue
				return
			}
			if cut := v.cutAbove(s.Name); !cut.IsZero() {
				say(s.Key(), fmt.Sprintf("%s is delegated to other nameservers; no client sees this record.", cut.Unicode()))
			}
		}},
	{Rule: Rule{"beside-delegation", finding.Warning, "A record is at a delegated name: the other nameservers answer for it, and no client sees it.",
		"Put it into the delegated zone, or remove the delegation."},
		types: []record.Type{record.NS},
		set: func(v *view, s record.Set, say sayer) {
			for _, r := range v.Contents.At(s.Name) {
				glue := r.Type == record.A || r.Type == record.AAAA
				if s.Name != v.Name && r.Type != record.NS && r.Type != record.DS && r.Type != nsec && !glue {
					say(r.Key(), fmt.Sprintf("%s is delegated to other nameservers; no client sees this record.", s.Name.Unicode()))
					return
				}
			}
		}},
	{Rule: Rule{"glue-missing", finding.Warning, "A delegation names a nameserver within the delegated zone without an address for it: resolvers cannot find it.",
		"Add the nameserver's addresses (glue) here."},
		types: []record.Type{record.NS},
		set: func(v *view, s record.Set, say sayer) {
			for _, d := range s.Data {
				if t := d.Target(record.NS); s.Name != v.Name && t.IsAtOrBelow(s.Name) && !v.hasAddress(t) {
					say(s.Key(), fmt.Sprintf("%s lies in the zone that it should serve, and no address is given for it.", t.Unicode()))
				}
			}
		}},
	{Rule: Rule{"single-nameserver", finding.Notice, "A delegation names one nameserver only (RFC 1034 section 4.1 asks for two).", "Name a second one in another network."},
		types: []record.Type{record.NS},
		set: func(v *view, s record.Set, say sayer) {
			if s.Name != v.Name && len(s.Data) == 1 {
				say(s.Key(), "When this one nameserver is away, so is everything below.")
			}
		}},
	{Rule: Rule{"ds-without-delegation", finding.Warning, "A DS record is where nothing is delegated.", "Remove it, or add the NS records of the delegation."},
		types: []record.Type{record.DS},
		set: func(v *view, s record.Set, say sayer) {
			if v.at(s.Name, record.NS).IsZero() || s.Name == v.Name {
				say(s.Key(), "Nothing is delegated here; a DS record means something beside NS records below the apex only.")
			}
		}},
	{Rule: Rule{"delegation-at-wildcard", finding.Warning, "A wildcard has NS records, which is not defined (RFC 4592 section 4.2).", "Delegate the names one by one."},
		types: []record.Type{record.NS},
		set: func(_ *view, s record.Set, say sayer) {
			if s.Name.IsWildcard() {
				say(s.Key(), "A wildcard cannot be delegated.")
			}
		}},
	{Rule: Rule{"wildcard-hidden", finding.Notice, "A name exists beside a wildcard and lacks what the wildcard has: for a name that exists, the wildcard does not answer (RFC 4592).",
		"Give the name the records of the wildcard too, if it should answer like it."},
		types: []record.Type{record.A, record.AAAA, record.MX, record.CNAME},
		set: func(v *view, s record.Set, say sayer) {
			if s.Name.IsWildcard() {
				v.hiddenBy(s, say)
			}
		}},
}

const nsec record.Type = 47

// hiddenBy looks for names beside a wildcard that exist and lack what it has.
func (v *view) hiddenBy(wild record.Set, say sayer) {
	parent := wild.Name.Parent()
	var last dnsname.Name
	for _, r := range v.below(parent) {
		if r.Name == last || r.Name.Parent() != parent || r.Name.IsWildcard() || strings.HasPrefix(r.Name.Relative(parent), "_") {
			continue
		}
		last = r.Name
		if v.at(r.Name, wild.Type).IsZero() && v.at(r.Name, record.CNAME).IsZero() && v.at(r.Name, record.NS).IsZero() && !v.hasAddress(r.Name) {
			say(record.Key{Name: r.Name, Type: wild.Type}, fmt.Sprintf("%s exists, so that %s does not answer for it, and it has no %s record of its own.",
				r.Name.Unicode(), wild.Name.Unicode(), wild.Type))
		}
	}
}

// end is how a chain of CNAME records ends.
type end uint8

const (
	leaves  end = iota // outside the zone, or at data
	nowhere            // at a name of the zone that does not exist
	loops
)

// follow goes along CNAME records from a set, and gives their owners.
func (v *view) follow(s record.Set) (path []dnsname.Name, how end) {
	for {
		path = append(path, s.Name)
		target := s.Data[0].Target(record.CNAME)
		for _, n := range path {
			if n == target {
				return path, loops
			}
		}
		if !target.IsAtOrBelow(v.Name) || !v.cutAbove(target).IsZero() {
			return path, leaves
		}
		next := v.at(target, record.CNAME)
		if next.IsZero() {
			if !v.exists(target) {
				return path, nowhere
			}
			return path, leaves
		}
		s = next
	}
}

func joinNames(names []dnsname.Name) string {
	texts := make([]string, len(names))
	for i, n := range names {
		texts[i] = n.Unicode()
	}
	return strings.Join(texts, " → ")
}
