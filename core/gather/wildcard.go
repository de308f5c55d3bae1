package gather

import (
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// wildcardAbove returns what the wildcard has that would answer for a name that does not exist; nil where none does, or where it is not known yet.
func (a *Asking) wildcardAbove(name dnsname.Name) *node {
	_, star := a.starAbove(name)
	return star
}

// starAbove returns the closest wildcard above a name: its record sets, or, where the provider answers every name without one, what it answers.
func (a *Asking) starAbove(name dnsname.Name) (level dnsname.Name, star *node) {
	for at := name.Parent(); at.IsAtOrBelow(a.zone); at = at.Parent() {
		if a.levels[at] {
			for _, label := range []string{"*", a.opt.Label} {
				star, err := dnsname.ParseRelative(label, at)
				if n := a.nodes[star]; err == nil && n != nil && n.state != absent && len(n.sets) > 0 {
					return at, n
				}
			}
		}
		if at == a.zone {
			break
		}
	}
	return level, nil
}

// sameSets reports whether two names have the same data.
func sameSets(n, m *node) bool {
	if len(n.sets) != len(m.sets) {
		return false
	}
	for t, set := range n.sets {
		if !set.SameData(m.sets[t]) {
			return false
		}
	}
	return true
}

// covered reports whether a name is no name of the zone: made up, below a delegation, or answered by a wildcard as far as is known.
func (a *Asking) covered(name dnsname.Name) bool {
	n := a.nodes[name]
	_, made := a.probes[name]
	if made || n.state == wildcards || n.state == absent || n.state == beneath || a.cutAbove(name) {
		return true
	}
	_, star := a.starAbove(name)
	return star != nil && star != n && sameSets(n, star)
}

// found returns the sets that are the zone's own, and what is doubtful. A name that answers as a wildcard above it does is one of its own only where another name
// between the two exists, since then the wildcard does not reach it (RFC 4592 section 3.3.1).
func (a *Asking) found() (sets []record.Set, doubts []Doubt) {
	exists := map[dnsname.Name]bool{} // names that exist whatever wildcards do, and all above them
	maybe := map[dnsname.Name]dnsname.Name{}
	for _, name := range a.sortedNames() {
		n := a.nodes[name]
		_, made := a.probes[name]
		if made || len(n.sets) == 0 && !a.children[name] || n.state == absent || n.state == beneath || a.cutAbove(name) {
			continue
		}
		if level, star := a.starAbove(name); star != nil && star != n && (n.synth || sameSets(n, star)) {
			maybe[name] = level
			continue
		}
		for at := name; at.IsAtOrBelow(a.zone) && !exists[at]; at = at.Parent() {
			exists[at] = true
		}
	}
	own := func(name dnsname.Name) bool {
		level, doubted := maybe[name]
		if !doubted {
			return exists[name]
		}
		if a.nodes[name].synth {
			return false
		}
		for at := name; at.IsBelow(level); at = at.Parent() {
			if exists[at] {
				return true
			}
		}
		return false
	}
	for _, name := range a.sortedNames() {
		n := a.nodes[name]
		if !own(name) || len(n.sets) == 0 && !a.children[name] {
			continue
		}
		if a.children[name] {
			doubts = append(doubts, Doubt{Key: record.Key{Name: name, Type: record.NS}, Kind: ChildZone, TTL: n.sets[record.NS].TTL, Data: n.sets[record.NS].Data})
			if ds, ok := n.sets[record.DS]; ok {
				sets = append(sets, ds)
			}
			continue
		}
		for _, set := range n.sets {
			sets = append(sets, set)
			if d, doubtful := a.doubtful(set); doubtful {
				doubts = append(doubts, d)
			}
		}
	}
	sets = append(sets, a.glue...)
	doubts = append(doubts, a.answeringAll()...)
	slices.SortFunc(doubts, func(x, y Doubt) int { return x.Key.Compare(y.Key) })
	return sets, doubts
}

// doubtful judges a set by how it was answered in later rounds.
func (a *Asking) doubtful(set record.Set) (Doubt, bool) {
	seen := slices.Clone(set.Data)
	down := false
	for _, later := range a.again[set.Key()] {
		if later.Type == set.Type {
			seen = append(seen, later.Data...)
			down = down || later.TTL != set.TTL
		}
	}
	slices.Sort(seen)
	seen = slices.Compact(seen)
	d := Doubt{Key: set.Key(), TTL: set.TTL, Data: seen}
	switch {
	case a.placed[set.Key()]:
		d.Kind = ByPlace
	case len(seen) > len(set.Data):
		d.Kind = Varies
	case down:
		d.Kind = CountsDown
	}
	return d, d.Kind != ""
}

// answeringAll returns the levels at which every name gets an answer, though no wildcard record is there.
func (a *Asking) answeringAll() (list []Doubt) {
	for name, level := range a.probes {
		star, err := dnsname.ParseRelative("*", level)
		if n := a.nodes[star]; !a.levels[level] || err != nil || n != nil && n.state == existing || a.cutAbove(name) {
			continue
		}
		if _, above := a.starAbove(level); above != nil {
			continue
		}
		if n := a.nodes[name]; n != nil && strings.HasPrefix(name.String(), a.opt.Label+".") {
			for t, set := range n.sets {
				list = append(list, Doubt{Key: record.Key{Name: star, Type: t}, Kind: EveryName, TTL: set.TTL, Data: set.Data})
			}
		}
	}
	return list
}
