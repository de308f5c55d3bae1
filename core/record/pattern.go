package record

import (
	"fmt"
	"strings"

	"beacon/core/dnsname"
)

// Pattern names record sets of a zone: "_acme-challenge.** TXT". In the name, "*" stands for one label and "**" for any
// number of them, none included; both stand for whole labels. The type is a record type, or "*" for every one.
type Pattern struct {
	text   string
	labels []string // relative to the zone, from the left
	typ    Type     // 0 for every type
	zone   dnsname.Name
}

// mostDeep bounds the "**" of one pattern, and with it the ways in which a name can be tried against it.
const mostDeep = 3

// ParsePattern reads a pattern for a zone. The name is relative to it; "@" is the zone itself.
func ParsePattern(text string, zone dnsname.Name) (Pattern, error) {
	p := Pattern{text: strings.Join(strings.Fields(text), " "), zone: zone}
	name, typ, two := strings.Cut(p.text, " ")
	if !two || strings.Contains(typ, " ") {
		return p, fmt.Errorf(`%q is no pattern; write a name and a type, such as "_acme-challenge.** TXT" or "office.** *"`, text)
	}
	if typ != "*" {
		t, err := ParseType(typ)
		if err != nil {
			return p, err
		}
		p.typ = t
	}
	if name == "@" {
		return p, nil
	}
	if strings.Count(name, "**") > mostDeep {
		return p, fmt.Errorf(`%q has more than %d "**"; one is enough for any depth`, name, mostDeep)
	}
	for _, label := range strings.Split(strings.ToLower(name), ".") {
		if label != "*" && label != "**" {
			n, err := dnsname.ParseRelative(label, dnsname.Root)
			if err != nil || n.NumLabels() != 1 {
				return p, fmt.Errorf(`%q is no name of a pattern; it is relative to the zone, without a final dot, and "*" and "**" are whole labels`, name)
			}
			label = n.Labels()[0]
		}
		p.labels = append(p.labels, label)
	}
	return p, nil
}

func (p Pattern) String() string { return p.text }

// Matches reports whether the pattern names the set at k.
func (p Pattern) Matches(k Key) bool {
	if p.typ != 0 && p.typ != k.Type || !k.Name.IsAtOrBelow(p.zone) {
		return false
	}
	labels := k.Name.Labels()
	return matchLabels(p.labels, labels[:len(labels)-p.zone.NumLabels()])
}

func matchLabels(pattern, labels []string) bool {
	for i, want := range pattern {
		if want == "**" {
			for skip := 0; skip <= len(labels); skip++ {
				if matchLabels(pattern[i+1:], labels[skip:]) {
					return true
				}
			}
			return false
		}
		if len(labels) == 0 || want != "*" && want != labels[0] {
			return false
		}
		labels = labels[1:]
	}
	return len(labels) == 0
}

// AnyMatches reports whether one of the patterns names the set at k.
func AnyMatches(patterns []Pattern, k Key) bool {
	for _, p := range patterns {
		if p.Matches(k) {
			return true
		}
	}
	return false
}
