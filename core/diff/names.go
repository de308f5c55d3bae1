package diff

import (
	"beacon/core/dnsname"
	"beacon/core/record"
)

// MostNames is how many names a difference may concern for Names to name them.
const MostNames = 500

// Names returns the names at which two desired states of a zone differ. ok is false where the difference may concern other names too, since a
// delegation, a DNAME or an ALIAS is part of it, and where there are more than MostNames.
func Names(before, after record.Contents) (names []dnsname.Name, ok bool) {
	start, endBefore, endAfter := before.Differ(after)
	old, now := record.NewContents(before.Records()[start:endBefore:endBefore]), record.NewContents(after.Records()[start:endAfter:endAfter])
	added, removed, _ := record.Difference(old, now)
	for _, r := range append(added, removed...) {
		switch r.Type {
		case record.NS, record.DNAME, record.ALIAS:
			return nil, false
		}
		if n := len(names); n == 0 || names[n-1] != r.Name {
			names = append(names, r.Name)
		}
	}
	return names, len(names) <= MostNames
}

// WithAncestors adds the names between each name and the zone's apex: what stands there may concern what is below.
func WithAncestors(names []dnsname.Name, zone dnsname.Name) []dnsname.Name {
	seen := map[dnsname.Name]bool{}
	var all []dnsname.Name
	for _, n := range names {
		for at := n; at.IsAtOrBelow(zone) && !seen[at]; at = at.Parent() {
			seen[at] = true
			all = append(all, at)
			if at == zone {
				break
			}
		}
	}
	return all
}
