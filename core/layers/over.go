package layers

import (
	"slices"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// Desired is what a zone should contain.
type Desired struct {
	Contents record.Contents
	// Owned are the keys that layers own, those of every ALIAS with known addresses among them: the scope of a sync of the layers alone.
	Owned map[record.Key]bool
	// Answered and Unanswered are the names of the ALIAS records whose addresses are known, and are not. One that is not answered is left
	// out of Contents, and what stands at its name is to be left as it is.
	Answered, Unanswered []dnsname.Name
}

// Over lays layers on top of a revision. An ALIAS at one of the names kept stays an ALIAS: the provider follows it by itself.
func Over(revision record.Contents, list []Layer, kept ...dnsname.Name) Desired {
	d := Desired{Owned: map[record.Key]bool{}}
	below := reported(revision, list, d.Owned)
	d.Contents = below.Resolve(func(owner, target dnsname.Name) (record.Followed, bool) {
		gone := func(l Layer) bool { return l.Slot == Reported && l.Name == target && len(l.Gone) > 0 }
		if slices.ContainsFunc(list, gone) { // a host that has no address left, whatever its name was heard at
			return record.Followed{}, true
		}
		for _, l := range list {
			if l.Slot == Answers && l.Name == owner && l.Target == target {
				return l.Followed, true
			}
		}
		d.Unanswered = append(d.Unanswered, owner)
		return record.Followed{}, false
	})
	for _, alias := range below.Aliases() {
		answered := !slices.Contains(d.Unanswered, alias.Name)
		if answered {
			d.Answered = append(d.Answered, alias.Name)
		}
		if slices.Contains(kept, alias.Name) {
			d.Contents = asBelow(d.Contents, below, alias)
		} else if answered {
			own(d.Owned, addressKeys(alias.Name))
		}
	}
	d.Contents = lowered(d.Contents, list, d.Owned)
	return d
}

// WithReported lays only delegations and the addresses that hosts reported on top of a revision: ALIAS records stay as they are written.
func WithReported(revision record.Contents, list []Layer) record.Contents {
	return reported(revision, list, map[record.Key]bool{})
}

func reported(c record.Contents, list []Layer, owned map[record.Key]bool) record.Contents {
	c = delegated(c, list, owned)
	var sets []record.Set
	var gone []record.Key
	for _, l := range list {
		if l.Slot == Reported {
			gone = append(gone, l.Gone...)
			sets = append(sets, l.Sets...)
			own(owned, l.Keys)
		}
	}
	if len(gone) > 0 {
		c = c.Without(gone...)
	}
	if len(sets) == 0 {
		return c
	}
	return c.With(sets...)
}

// asBelow puts an ALIAS back, with what stood beside it.
func asBelow(c, below record.Contents, alias record.Set) record.Contents {
	sets := []record.Set{alias}
	var gone []record.Key
	for _, k := range addressKeys(alias.Name) {
		if set := below.Get(k); set.IsZero() {
			gone = append(gone, k)
		} else {
			sets = append(sets, set)
		}
	}
	return c.Without(gone...).With(sets...)
}

func lowered(c record.Contents, list []Layer, owned map[record.Key]bool) record.Contents {
	most := map[record.Key]uint32{}
	for _, l := range list {
		if l.Slot != Lowered {
			continue
		}
		own(owned, l.Keys)
		for _, k := range l.Keys {
			if ttl, has := most[k]; !has || l.TTL < ttl {
				most[k] = l.TTL
			}
		}
	}
	if len(most) == 0 {
		return c
	}
	return c.Map(func(s record.Set) record.Set {
		if ttl, has := most[s.Key()]; has {
			s.TTL = min(s.TTL, ttl)
		}
		return s
	})
}

func own(owned map[record.Key]bool, keys []record.Key) {
	for _, k := range keys {
		owned[k] = true
	}
}
