package rules

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

// nameRules are about owners: names that cannot be meant as they stand.
var nameRules = []rule{
	{Rule: Rule{"outside-zone", finding.Error, "A record's name does not lie in the zone.",
		"Correct the name, or put the record into the zone it belongs to."},
		set: func(v *view, s record.Set, say sayer) {
			if !s.Name.IsAtOrBelow(v.Name) {
				say(s.Key(), fmt.Sprintf("The name does not lie in the zone %s.", v.Name.Unicode()))
			}
		}},
	{Rule: Rule{"zone-name-repeated", finding.Warning, "A name ends with the zone's name twice, as it does where a full name is written without its final dot.",
		"Write the name relative to the zone, or with its final dot."},
		set: func(v *view, s record.Set, say sayer) {
			if once, repeated := v.withoutRepetition(s.Name); repeated {
				moved := s
				moved.Name = once
				say(s.Key(), fmt.Sprintf("The name ends with %s twice; %s is meant, probably.", v.Name.Unicode(), once.Unicode()), Edit{Before: s}, Edit{After: moved})
			}
		}},
	{Rule: Rule{"web-address-as-name", finding.Warning, "A name has a colon or a slash in it, as a web address has.",
		"Leave out the scheme (https://), the path and the port: only the host's name belongs here."},
		set: func(_ *view, s record.Set, say sayer) {
			if webLike(s.Name) {
				say(s.Key(), fmt.Sprintf("%s looks like a web address.", s.Name.Unicode()))
			}
		}},
	{Rule: Rule{"strange-character-in-name", finding.Warning, "A name has a blank or a character in it that is not ASCII, or cannot be seen.",
		"Type the name again; a name in another script is written as such and kept as A-labels."},
		set: func(_ *view, s record.Set, say sayer) {
			key := s.Name.Key() // zero octets part the labels there
			for i := range len(key) {
				if c := key[i]; c != 0 && (c <= ' ' || c > '~') {
					say(s.Key(), fmt.Sprintf("%s has a character in it that hardly is meant.", s.Name))
					return
				}
			}
		}},
	{Rule: Rule{"mixed-scripts", finding.Warning, "A label mixes letters of several scripts that look alike, such as a Latin a and a Cyrillic а: no visitor types it, and it is used to deceive.",
		"Type the name again in one script."},
		set: func(v *view, s record.Set, say sayer) {
			v.mixed(s.Key(), s.Name, say)
			for _, t := range v.targets {
				v.mixed(s.Key(), t, say)
			}
		}},
	{Rule: Rule{"underscore-in-host", finding.Warning, "A mail server or nameserver has an underscore in its name, which host names may not have (RFC 952, RFC 1123 section 2.1).",
		"Give the server a name of letters, digits and hyphens."},
		types: []record.Type{record.MX, record.NS},
		set: func(v *view, s record.Set, say sayer) {
			for _, t := range v.targets {
				if strings.Contains(t.Key(), "_") {
					say(s.Key(), fmt.Sprintf("%s is no host name.", t.Unicode()))
				}
			}
		}},
	{Rule: Rule{"www-missing", finding.Notice, "The apex has an address and www does not exist: visitors to www get no address.",
		"Add www as a CNAME to the apex, or give it addresses of its own."},
		zone: func(v *view, say sayer) {
			www, err := v.Name.Child("www")
			if err == nil && v.hasAddress(v.Name) && !v.exists(www) {
				say(record.Key{Name: www, Type: record.CNAME}, "The apex has an address, and www does not exist.",
					Edit{After: record.NewSet(www, record.CNAME, v.ttlOf(v.Name), record.Data(v.Name.String()))})
			}
		}},
	{Rule: Rule{"apex-missing", finding.Notice, "www exists and the apex has no address: visitors who leave www out get no address.",
		"Give the apex the addresses that www has."},
		zone: func(v *view, say sayer) {
			www, err := v.Name.Child("www")
			if err == nil && len(v.Contents.At(www)) > 0 && !v.hasAddress(v.Name) {
				say(record.Key{Name: v.Name, Type: record.A}, "www exists, and the apex has no address.", v.copyAddresses(www, v.Name)...)
			}
		}},
}

// webLike reports a colon or a slash in a name, but for the labels of classless reverse zones (RFC 2317).
func webLike(name dnsname.Name) bool {
	return strings.ContainsAny(name.Key(), ":/") && slices.ContainsFunc(name.Labels(), func(l string) bool {
		return strings.ContainsAny(l, ":/") && !classless.MatchString(l)
	})
}

var classless = regexp.MustCompile(`^[0-9]{1,3}/[0-9]{1,3}$`)

// mixed returns when a label mixes scripts whose letters are taken for one another (Unicode Technical Standard 39, section 5.1).
func (v *view) mixed(key record.Key, name dnsname.Name, say sayer) {
	if !strings.Contains(name.Key(), "xn--") {
		return
	}
	for _, label := range strings.Split(name.Unicode(), ".") {
		if scripts := alike(label); len(scripts) > 1 {
			say(key, fmt.Sprintf("%s mixes %s letters: %s.", label, strings.Join(scripts, " and "), name))
			return
		}
	}
}

// alike returns which of the scripts that look alike a label has letters of.
func alike(label string) (scripts []string) {
	for _, s := range []struct {
		name  string
		table *unicode.RangeTable
	}{{"Latin", unicode.Latin}, {"Greek", unicode.Greek}, {"Cyrillic", unicode.Cyrillic}, {"Armenian", unicode.Armenian}, {"Cherokee", unicode.Cherokee}} {
		if strings.ContainsFunc(label, func(c rune) bool { return unicode.Is(s.table, c) }) {
			scripts = append(scripts, s.name)
		}
	}
	return scripts
}

// withoutRepetition takes one of two endings away, where a name ends with the zone's name twice.
func (v *view) withoutRepetition(name dnsname.Name) (dnsname.Name, bool) {
	switch {
	case v.twice.IsZero() || !name.IsAtOrBelow(v.twice):
		return name, false
	case name == v.twice:
		return v.Name, true
	}
	once, err := dnsname.ParseRelative(name.Relative(v.twice), v.Name)
	return once, err == nil
}

func (v *view) hasAddress(name dnsname.Name) bool {
	return !v.at(name, record.A).IsZero() || !v.at(name, record.AAAA).IsZero() || !v.at(name, record.ALIAS).IsZero()
}

func (v *view) ttlOf(name dnsname.Name) uint32 {
	for _, t := range []record.Type{record.A, record.AAAA, record.ALIAS} {
		if s := v.at(name, t); !s.IsZero() {
			return s.TTL
		}
	}
	return 3600
}

func (v *view) copyAddresses(from, to dnsname.Name) (edits []Edit) {
	for _, t := range []record.Type{record.A, record.AAAA, record.ALIAS} {
		if s := v.at(from, t); !s.IsZero() {
			s.Name = to
			edits = append(edits, Edit{After: s})
		}
	}
	return edits
}
