package diff

import (
	"fmt"
	"slices"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/record"
)

// Doubt is a set at which one read differs from what is known: what we placed is not there as we placed it, or what nobody here
// placed is there already. Such a read is not believed by itself, since the difference may be the provider's error.
type Doubt struct {
	Key   record.Key
	Known record.Set // zero: nothing is known to be there
	Read  record.Set
	Form  bool       // the difference may be the provider's way of writing what was sent, which is Known
	Was   record.Set // with Form: what was there before, where that is known
}

// Doubts returns the sets at which live differs from what was placed, and from the others where those are known.
func Doubts(placed, live record.Contents, others *record.Contents) (list []Doubt) {
	seen := map[record.Key]bool{}
	add := func(k record.Key, known record.Contents) {
		if !seen[k] {
			seen[k] = true
			list = append(list, Doubt{Key: k, Known: known.Get(k), Read: live.Get(k)})
		}
	}
	added, removed, _ := record.Difference(placed, live)
	for _, r := range removed {
		add(r.Key(), placed)
	}
	for _, r := range added {
		switch {
		case !placed.Get(r.Key()).IsZero():
			add(r.Key(), placed)
		case others != nil && others.Get(r.Key()).IsZero():
			add(r.Key(), *others)
		}
	}
	if others != nil {
		for s := range others.Sets() {
			if placed.Get(s.Key()).IsZero() && !live.Get(s.Key()).Equal(s) {
				add(s.Key(), *others)
			}
		}
	}
	slices.SortFunc(list, func(a, b Doubt) int { return a.Key.Compare(b.Key) })
	return list
}

// SameDoubts reports whether two reads are in doubt in the same way.
func SameDoubts(a, b []Doubt) bool {
	return slices.EqualFunc(a, b, func(a, b Doubt) bool { return a.Key == b.Key && a.Read.Equal(b.Read) && a.Known.Equal(b.Known) })
}

// Statement is what the answer of a nameserver says about a doubt.
type Statement uint8

// An answer may say nothing of it, may be as was read, may be as is known, or something else.
const (
	NoStatement Statement = iota
	AsRead
	AsKnown
	Otherwise
)

// Tellable reports whether the nameservers can tell what was read from what is known. They answer at an ALIAS, below a cut, and where
// a wildcard would stand in with the same data, whatever the zone has there. live is what was read.
func (d Doubt) Tellable(zone dnsname.Name, live record.Contents) bool {
	if d.Key.Type == record.ALIAS || d.Key.Type == record.NS || d.Key.Type == record.DS {
		return false
	}
	for _, r := range live.At(d.Key.Name) {
		if r.Type == record.ALIAS {
			return false
		}
	}
	for n := d.Key.Name.Parent(); n.IsAtOrBelow(zone); n = n.Parent() {
		wild, err := n.Child("*")
		if err == nil && wild != d.Key.Name && len(live.At(wild)) > 0 {
			return false
		}
	}
	return true
}

// Says returns what an authoritative answer to the question for the doubt's key says.
func (d Doubt) Says(o evidence.Observed) Statement {
	switch o.Answer {
	case evidence.NoData, evidence.NoName:
		return d.statement(d.Read.IsZero(), d.Known.IsZero())
	case evidence.Positive:
		if o.Alias && d.Key.Type != record.CNAME { // the name is an alias: the set is not there
			return d.statement(d.Read.IsZero(), d.Known.IsZero())
		}
		served := record.NewSet(d.Key.Name, d.Key.Type, o.TTL, o.Data...)
		if d.Read.SameData(d.Known) { // they differ in the TTL
			return d.statement(served.Equal(d.Read), served.Equal(d.Known))
		}
		return d.statement(served.SameData(d.Read), served.SameData(d.Known))
	}
	return NoStatement
}

func (d Doubt) statement(read, known bool) Statement {
	switch {
	case read && known:
		return NoStatement
	case read:
		return AsRead
	case known:
		return AsKnown
	}
	return Otherwise
}

// Verdict is what the nameservers of a zone make of a read that is in doubt.
type Verdict struct {
	Heard  bool   // one of them at least says something of it
	Agreed bool   // and none serves anything else than what was read
	Silent bool   // none of them answers
	Why    string // what the first of them serves that was not read
}

// Heard is an answer of a nameserver about a doubt.
type Heard struct {
	Server string
	Doubt  Doubt
	Answer evidence.Observed
}

// Weigh returns the verdict of all answers.
func Weigh(answers []Heard) Verdict {
	v := Verdict{Agreed: true, Silent: len(answers) > 0}
	for _, a := range answers {
		v.Silent = v.Silent && a.Answer.Answer == evidence.Silent
		said := a.Doubt.Says(a.Answer)
		if a.Doubt.Form && said == AsKnown && !a.Doubt.Read.Equal(a.Doubt.Was) { // it serves what was sent, and shows it in its own way
			said = AsRead
		}
		if said == NoStatement {
			continue
		}
		v.Heard = true
		if said != AsRead && v.Agreed {
			v.Agreed = false
			v.Why = fmt.Sprintf("%s serves %s, and the provider's interface returned %s", a.Server, servedText(a.Answer, a.Doubt), setOrNothing(a.Doubt.Read))
		}
	}
	v.Agreed = v.Agreed && v.Heard
	return v
}

// mostAsked is how many sets of a zone its nameservers are asked for because of one read.
const mostAsked = 40

// Sample returns doubts to ask nameservers about: those that they can tell, evenly spread where there are many.
func Sample(list []Doubt, zone dnsname.Name, live record.Contents) []Doubt {
	var tellable []Doubt
	for _, d := range list {
		if d.Tellable(zone, live) {
			tellable = append(tellable, d)
		}
	}
	if len(tellable) <= mostAsked {
		return tellable
	}
	out := make([]Doubt, mostAsked)
	for i := range out {
		out[i] = tellable[i*len(tellable)/mostAsked]
	}
	return out
}

func servedText(o evidence.Observed, d Doubt) string {
	if o.Answer != evidence.Positive {
		return "nothing at " + d.Key.String()
	}
	return record.NewSet(d.Key.Name, d.Key.Type, o.TTL, o.Data...).String()
}

func setOrNothing(s record.Set) string {
	if s.IsZero() {
		return "nothing there"
	}
	return record.SetText(s)
}
