package layers

import (
	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/core/record"
)

// Slot is where a layer lies. Later ones lie on top of earlier ones, in whatever order they are given.
type Slot int

// Delegations come first: they replace what the revision has. Reported addresses are next, so that an ALIAS may lead to them; TTLs are lowered last, whatever they are the TTLs of.
const (
	Delegated Slot = iota // NS, glue and DS of a child zone
	Reported              // addresses that a host reported
	Answers               // addresses of an ALIAS's target outside the zone
	Lowered               // TTLs lowered ahead of a change
)

// Layer is what somebody else than the author of a revision owns. It changes the sets at its keys and no others, except that an ALIAS
// within the zone may lead to them.
type Layer struct {
	Slot Slot
	Name dnsname.Name // of the child, of the host, or of the ALIAS; zero for lowered TTLs
	Keys []record.Key // all that it owns

	Gone     []record.Key    // Reported: keys that have nothing, whatever is below
	Sets     []record.Set    // Reported: what is at its keys; a key without a set keeps what is below. Delegated: all that is at its keys
	Target   dnsname.Name    // Answers: whose addresses they are
	Followed record.Followed // Answers
	TTL      uint32          // Lowered: the longest that is left, seconds
}

// OfHost returns the layer of a host that has these addresses, and of some families none any more. A host that reported none owns nothing.
func OfHost(name dnsname.Name, ttl uint32, at dynaddr.Addresses, gone dynaddr.Families) Layer {
	l := Layer{Slot: Reported, Name: name, Sets: dynaddr.Sets(name, ttl, at)}
	if gone.V4 {
		l.Gone = append(l.Gone, record.Key{Name: name, Type: record.A})
	}
	if gone.V6 {
		l.Gone = append(l.Gone, record.Key{Name: name, Type: record.AAAA})
	}
	if len(l.Sets)+len(l.Gone) > 0 {
		l.Keys = addressKeys(name)
	}
	return l
}

// OfAlias returns the layer of an ALIAS whose target was heard at these addresses. It owns nothing where the revision has no such ALIAS.
func OfAlias(name, target dnsname.Name, heard record.Followed) Layer {
	return Layer{Slot: Answers, Name: name, Target: target, Followed: heard, Keys: addressKeys(name)}
}

// Lower returns a layer under which no set at keys has a longer TTL, in seconds.
func Lower(ttl uint32, keys ...record.Key) Layer {
	return Layer{Slot: Lowered, TTL: ttl, Keys: keys}
}

// addressKeys are the keys of a name that leads to addresses. CNAME is among them: where one stands at the provider, no address can be
// put before it goes.
func addressKeys(name dnsname.Name) []record.Key {
	return []record.Key{{Name: name, Type: record.A}, {Name: name, Type: record.AAAA}, {Name: name, Type: record.CNAME}}
}
