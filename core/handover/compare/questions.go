package compare

import (
	"cmp"
	"slices"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// Question is something that both sides are asked for.
type Question struct {
	Key   record.Key // as it is asked
	Shown record.Key // as people read it: a name made up below a wildcard is shown as the wildcard
	Cut   bool       // at or below a delegation: a referral is the answer
	Empty bool       // the name has no records and names below it: it exists (RFC 4592 section 2.2.2)
}

// nobodysType is a type for private use (RFC 6895 section 3.1) that no zone is taken to have.
const nobodysType record.Type = 65400

// mostMadeUp is below how many names one is made up.
const mostMadeUp = 200

// Questions returns what both sides have to be asked for, in canonical order: all record sets of all contents, but for what belongs to the side that serves a zone; each
// empty non-terminal; a name that nobody has below the apex, each wildcard and each level; and a type that nobody has. An ALIAS is asked for as the addresses that it
// stands for. madeUp is the label that nobody has.
func Questions(zone dnsname.Name, madeUp string, contents ...record.Contents) (list []Question) {
	owners, cuts := map[dnsname.Name]bool{}, map[dnsname.Name]bool{}
	var keys []record.Key
	for _, c := range contents {
		for set := range c.Sets() {
			k := set.Key()
			owners[k.Name] = true
			switch {
			case k.Type == record.SOA || k.Type == record.NS && k.Name == zone:
				continue
			case k.Type == record.ALIAS:
				keys = append(keys, record.Key{Name: k.Name, Type: record.A}, record.Key{Name: k.Name, Type: record.AAAA})
				continue
			case k.Type == record.NS:
				cuts[k.Name] = true
			}
			keys = append(keys, k)
		}
	}
	below := func(name dnsname.Name) bool {
		for at := name; at.IsBelow(zone); at = at.Parent() {
			if cuts[at] {
				return true
			}
		}
		return false
	}
	for _, k := range keys {
		list = append(list, Question{Key: k, Shown: k, Cut: below(k.Name) && !(cuts[k.Name] && k.Type == record.DS)})
	}
	levels := map[dnsname.Name]bool{zone: true}
	for name := range owners {
		for at := name; at.IsBelow(zone) && !below(at); at = at.Parent() {
			levels[at.Parent()] = true
			if at != name && !owners[at] {
				k := record.Key{Name: at, Type: record.A}
				list = append(list, Question{Key: k, Shown: k, Empty: true})
			}
		}
	}
	list = append(list, invented(zone, madeUp, levels)...)
	list = append(list, Question{Key: record.Key{Name: zone, Type: nobodysType}, Shown: record.Key{Name: zone, Type: nobodysType}})
	slices.SortFunc(list, func(a, b Question) int { return cmp.Or(a.Key.Compare(b.Key), a.Shown.Compare(b.Shown)) })
	return slices.Compact(list)
}

// invented returns questions for a name that nobody has below each of some names.
func invented(zone dnsname.Name, label string, levels map[dnsname.Name]bool) (list []Question) {
	at := make([]dnsname.Name, 0, len(levels))
	for name := range levels {
		if !name.IsWildcard() {
			at = append(at, name)
		}
	}
	slices.SortFunc(at, dnsname.Name.Compare)
	for _, name := range at[:min(len(at), mostMadeUp)] {
		asked, err := dnsname.ParseRelative(label, name)
		shown, err2 := dnsname.ParseRelative("*", name)
		if err == nil && err2 == nil { // a name of the greatest length has none below it
			list = append(list, Question{Key: record.Key{Name: asked, Type: record.A}, Shown: record.Key{Name: shown, Type: record.A}})
		}
	}
	return list
}

// Without returns the questions that are not about addresses of names that a side relays by design: there it answers with something of its own.
func Without(list []Question, relays []record.Key) []Question {
	return slices.DeleteFunc(list, func(q Question) bool {
		return isAddress(q.Key.Type) && slices.ContainsFunc(relays, func(k record.Key) bool { return k.Name == q.Key.Name && isAddress(k.Type) })
	})
}

func isAddress(t record.Type) bool { return t == record.A || t == record.AAAA || t == record.CNAME }
