// Package rules knows what people get wrong in zones, and says of each what collides, why, and what to do.
//
// Every rule stands in one of the tables (names.go, structure.go, targets.go, mail.go, values.go) with its code, its
// severity, its meaning and its remedy; Check applies all of them to a zone in one walk. Errors are what no nameserver
// could serve; warnings work badly or not as meant; notices are worth a word. Where a mistake can be fixed safely, what is found
// comes with the edits that would do it: they are offered, never made.
package rules

import (
	"net/netip"
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

// Zone is what is judged.
type Zone struct {
	Name     dnsname.Name
	Contents record.Contents
	Written  []record.Record // as they were written, repetitions and all; may be nil
	Believe  []netip.Prefix  // networks whose addresses are well here though nobody outside could reach them
	Only     record.Key      // only what is said of this set is wanted; zero for all
}

// Found is one finding, the set it is about, and what would fix it.
type Found struct {
	finding.Finding
	Key record.Key `json:"key"`
	Fix []Edit     `json:"fix"` // empty where nobody can know what was meant
}

// Edit changes one set of the zone; Before or After may be absent.
type Edit struct {
	Before record.Set `json:"before"`
	After  record.Set `json:"after"`
}

// Rule describes one rule.
type Rule struct {
	Code     string
	Severity finding.Severity
	Meaning  string
	Remedy   string
}

// rule is a rule with what it looks at: each set of some types, or the zone as a whole.
type rule struct {
	Rule
	types []record.Type // nil for every type
	set   func(*view, record.Set, sayer)
	zone  func(*view, sayer)
}

// sayer reports that a rule was broken, by which set and in which way.
type sayer func(key record.Key, message string, fix ...Edit)

// view is a zone while it is judged.
type view struct {
	Zone
	cuts  []record.Key // delegations below the apex, in canonical order
	twice dnsname.Name // the zone's name, relative to itself; zero where that is no name

	// Of the set that is looked at: several rules ask for the same.
	data    []record.Data  // used again for the next one
	targets []dnsname.Name // that it points at, one for each of its data
	texts   []string       // what it says, one for each of its data
	now     record.Key
}

// look makes a set of a run of records the one that is looked at.
func (v *view) look(run []record.Record) record.Set {
	v.data, v.targets, v.texts = v.data[:0], v.targets[:0], v.texts[:0]
	v.now = run[0].Key()
	for _, r := range run {
		v.data = append(v.data, r.Data)
	}
	switch {
	case v.now.Type == record.TXT:
		for _, d := range v.data {
			v.texts = append(v.texts, strings.Join(d.Texts(), ""))
		}
	case slices.Contains(pointing, v.now.Type):
		for _, d := range v.data {
			v.targets = append(v.targets, d.Target(v.now.Type))
		}
	}
	return record.Set{Name: v.now.Name, Type: v.now.Type, TTL: run[0].TTL, Data: v.data}
}

// textsOf returns what the data of a TXT set say.
func (v *view) textsOf(s record.Set) []string {
	if s.Key() == v.now {
		return v.texts
	}
	texts := make([]string, len(s.Data))
	for i, d := range s.Data {
		texts[i] = strings.Join(d.Texts(), "")
	}
	return texts
}

// at reports whether a name has records of a type.
func (v *view) at(name dnsname.Name, t record.Type) record.Set {
	return v.Contents.Get(record.Key{Name: name, Type: t})
}

// below returns the records whose names lie below a name: they stand together.
func (v *view) below(name dnsname.Name) []record.Record {
	all := v.Contents.Records()
	start, _ := slices.BinarySearchFunc(all, name, func(r record.Record, n dnsname.Name) int {
		if r.Name == n {
			return -1
		}
		return r.Name.Compare(n)
	})
	end := start
	for end < len(all) && all[end].Name.IsBelow(name) {
		end++
	}
	return all[start:end]
}

// exists reports whether a name has records, has names below it, or is answered by a wildcard.
func (v *view) exists(name dnsname.Name) bool {
	return v.standsItself(name) || !v.wildcardFor(name).IsZero()
}

// standsItself reports whether a name has records, or names below it.
func (v *view) standsItself(name dnsname.Name) bool {
	all := v.Contents.Records()
	i, found := slices.BinarySearchFunc(all, name, func(r record.Record, n dnsname.Name) int { return r.Name.Compare(n) })
	return found || i < len(all) && all[i].Name.IsBelow(name)
}

// wildcardFor returns the wildcard that answers for a name that does not exist (RFC 4592 section 3.3.1), or the zero Name.
func (v *view) wildcardFor(name dnsname.Name) dnsname.Name {
	for at := name.Parent(); at.IsAtOrBelow(v.Name); at = at.Parent() {
		wild, err := at.Child("*")
		if err == nil && len(v.Contents.At(wild)) > 0 {
			return wild
		}
		if v.standsItself(at) {
			return dnsname.Name{} // the closest name that exists has no wildcard
		}
	}
	return dnsname.Name{}
}

// cutAbove returns the delegation that a name lies below, or the zero Name.
func (v *view) cutAbove(name dnsname.Name) dnsname.Name {
	for at := name.Parent(); at.IsBelow(v.Name); at = at.Parent() {
		if _, found := slices.BinarySearchFunc(v.cuts, at, func(k record.Key, n dnsname.Name) int { return k.Name.Compare(n) }); found {
			return at
		}
	}
	return dnsname.Name{}
}

var tables = [][]rule{nameRules, structureRules, targetRules, mailRules, valueRules}

// All describes every rule, by code.
func All() []Rule {
	var all []Rule
	for _, table := range tables {
		for _, r := range table {
			all = append(all, r.Rule)
		}
	}
	slices.SortFunc(all, func(a, b Rule) int {
		if a.Code < b.Code {
			return -1
		}
		return 1
	})
	return all
}

// mostFound bounds how often one rule is said of one zone: what is wrong a thousand times has one cause.
const mostFound = 100

// Check judges a zone, the gravest first.
func Check(z Zone) []Found {
	v := &view{Zone: z}
	if twice, err := dnsname.ParseRelative(strings.TrimSuffix(z.Name.String(), "."), z.Name); err == nil && !z.Name.IsRoot() {
		v.twice = twice
	}
	byType := map[record.Type][]*finder{}
	var every, whole []*finder
	var all []*finder
	for _, table := range tables {
		for i := range table {
			f := &finder{rule: &table[i], only: z.Only}
			f.speak = f.say
			all = append(all, f)
			switch {
			case f.rule.zone != nil:
				whole = append(whole, f)
			case f.rule.types == nil:
				every = append(every, f)
			}
			for _, t := range f.rule.types {
				byType[t] = append(byType[t], f)
			}
		}
	}
	for i, r := range z.Contents.Records() {
		if r.Type == record.NS && r.Name != z.Name && (i == 0 || len(v.cuts) == 0 || v.cuts[len(v.cuts)-1] != r.Key()) {
			v.cuts = append(v.cuts, r.Key())
		}
	}
	records := z.Contents.Records()
	if z.Only != (record.Key{}) { // what is said of a set is found at its name, above it, or at a wildcard that would answer for it
		records = slices.Clone(z.Contents.At(z.Only.Name))
		for at := z.Only.Name; at.IsBelow(z.Name); at = at.Parent() {
			records = append(records, z.Contents.At(at.Parent())...)
			if wild, err := at.Parent().Child("*"); err == nil && wild != z.Only.Name {
				records = append(records, z.Contents.At(wild)...)
			}
		}
	}
	for len(records) > 0 {
		end := record.EndOfSet(records, 0)
		set := v.look(records[:end])
		for _, f := range every {
			f.rule.set(v, set, f.speak)
		}
		for _, f := range byType[set.Type] {
			f.rule.set(v, set, f.speak)
		}
		records = records[end:]
	}
	v.now = record.Key{}
	for _, f := range whole {
		f.rule.zone(v, f.say)
	}
	var found []Found
	for _, f := range all {
		found = append(found, f.found...)
	}
	slices.SortStableFunc(found, func(a, b Found) int {
		switch {
		case a.Severity != b.Severity:
			return int(b.Severity) - int(a.Severity)
		case a.Code != b.Code && a.Code < b.Code:
			return -1
		case a.Code != b.Code:
			return 1
		}
		return a.Key.Compare(b.Key)
	})
	return found
}

// finder gathers what one rule finds.
type finder struct {
	rule  *rule
	speak sayer
	found []Found
	only  record.Key
}

func (f *finder) say(key record.Key, message string, fix ...Edit) {
	if len(f.found) == mostFound || f.only != (record.Key{}) && f.only != key {
		return
	}
	for i, e := range fix { // the set that is looked at is overwritten by the next one
		fix[i].Before.Data, fix[i].After.Data = slices.Clone(e.Before.Data), slices.Clone(e.After.Data)
	}
	f.found = append(f.found, Found{Finding: finding.Finding{Code: f.rule.Code, Severity: f.rule.Severity, Subject: key.String(),
		Message: message, Remedy: f.rule.Remedy}, Key: key, Fix: fix})
}

// Errors returns the findings that block.
func Errors(found []Found) (list []finding.Finding) {
	for _, f := range found {
		if f.Severity == finding.Error {
			list = append(list, f.Finding)
		}
	}
	return list
}
