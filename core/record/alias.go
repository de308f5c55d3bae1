package record

import (
	"net/netip"

	"beacon/core/dnsname"
)

// Followed is what is known of the addresses of an ALIAS's target.
type Followed struct {
	Addresses []netip.Addr
	TTL       uint32 // the least on the way to them, seconds
}

// Aliases returns the ALIAS sets of contents.
func (c Contents) Aliases() (list []Set) {
	for start := 0; start < len(c.records); {
		end := EndOfSet(c.records, start)
		if c.records[start].Type == ALIAS {
			list = append(list, SetOf(c.records[start:end]))
		}
		start = end
	}
	return list
}

// Resolve returns contents with A and AAAA records in the place of each ALIAS. Targets within the contents are looked up
// there; of others, known says what is known. An ALIAS of which nothing is known is left out. The TTL is never longer than what
// the target allows.
func (c Contents) Resolve(known func(owner, target dnsname.Name) (Followed, bool)) Contents {
	aliases := c.Aliases()
	if len(aliases) == 0 {
		return c
	}
	var put []Set
	var gone []Key
	for _, s := range aliases {
		gone = append(gone, s.Key())
		f, target, within := c.followWithin(s)
		ok := within
		if !within {
			outside, has := known(s.Name, target)
			f.Addresses, ok = outside.Addresses, has
			f.TTL = min(f.TTL, outside.TTL)
		}
		if ok {
			put = append(put, f.sets(s.Name)...)
		}
	}
	return c.Without(gone...).With(put...)
}

// followWithin goes from an ALIAS to its target as far as the contents lead; within says that the addresses are there.
func (c Contents) followWithin(s Set) (f Followed, at dnsname.Name, within bool) {
	f.TTL, at = s.TTL, s.Data[0].Target(ALIAS)
	for range 16 {
		next := c.Get(Key{at, CNAME})
		if next.IsZero() {
			next = c.Get(Key{at, ALIAS})
		}
		if next.IsZero() {
			break
		}
		f.TTL, at = min(f.TTL, next.TTL), next.Data[0].Target(next.Type)
	}
	for _, t := range []Type{A, AAAA} {
		set := c.Get(Key{at, t})
		for _, d := range set.Data {
			if a, err := netip.ParseAddr(string(d)); err == nil {
				f.Addresses, within = append(f.Addresses, a), true
				f.TTL = min(f.TTL, set.TTL)
			}
		}
	}
	return f, at, within
}

// Outside returns where an ALIAS leads that the contents do not answer themselves, or the zero Name.
func (c Contents) Outside(s Set) dnsname.Name {
	_, at, within := c.followWithin(s)
	if within {
		return dnsname.Name{}
	}
	return at
}

func (f Followed) sets(owner dnsname.Name) (list []Set) {
	byType := map[Type][]Data{}
	for _, a := range f.Addresses {
		t := AAAA
		if a.Is4() {
			t = A
		}
		byType[t] = append(byType[t], Data(a.String()))
	}
	for t, data := range byType {
		list = append(list, NewSet(owner, t, f.TTL, data...))
	}
	return list
}
