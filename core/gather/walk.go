package gather

import (
	"fmt"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// mostWalked bounds how many names a walk follows.
const mostWalked = 20_000

// Walk follows the NSEC chain of a zone from name to name (RFC 4034 section 4.1). Next returns the question, Take takes its answer.
type Walk struct {
	zone  dnsname.Name
	at    dnsname.Name
	way   int // how the record of a name is asked for: by its type, then by what denials bring along
	known []record.Key
	names int
	ended string // why it ended
	whole bool
}

// ways to ask for the NSEC record of a name: itself; a type that nobody has; the DS, which the zone above answers where the server has the zone below too.
var ways = []record.Type{47, nobodysType, record.DS}

// NewWalk begins a walk at the apex.
func NewWalk(zone dnsname.Name) *Walk { return &Walk{zone: zone, at: zone} }

// Next returns the next question; false once the walk has ended.
func (w *Walk) Next() (record.Key, bool) {
	if w.ended != "" || w.whole {
		return record.Key{}, false
	}
	return record.Key{Name: w.at, Type: ways[w.way]}, true
}

// Take takes the answer to what Next returned; nil where none came.
func (w *Walk) Take(m *dns.Msg) {
	r := read(w.zone, record.Key{Name: w.at, Type: ways[w.way]}, m)
	below := w.at != w.zone && hasType(r.types, record.SOA) // the zone below answered
	switch {
	case !r.next.IsZero() && r.madeUp:
		w.ended = "its denials are made for each question, so that there is no chain to follow (RFC 9824)"
	case len(r.hashed) > 0 && w.names == 0:
		w.ended = "its names are hashed (NSEC3), so that there is no chain to follow"
	case r.next.IsZero() || below:
		if w.way++; w.way == len(ways) {
			w.way = 0
			w.ended = "it has no NSEC chain"
			if w.names > 0 {
				w.ended = fmt.Sprintf("the NSEC chain breaks off at %s, after %d names", w.at.Unicode(), w.names)
			}
		}
	default:
		w.step(r)
	}
}

func (w *Walk) step(r reply) {
	w.names++
	w.way = 0
	for _, t := range r.types {
		k := record.Key{Name: w.at, Type: t}
		if !Plumbing(w.zone, k) {
			w.known = append(w.known, k)
		}
	}
	switch {
	case r.next == w.zone:
		w.whole = true
	case !r.next.IsBelow(w.zone) || r.next.Compare(w.at) <= 0:
		w.ended = fmt.Sprintf("the NSEC record of %s leads back, to %s", w.at.Unicode(), r.next.Unicode())
	case w.names >= mostWalked:
		w.ended = fmt.Sprintf("broken off after %d names", w.names)
	default:
		w.at = r.next
	}
}

func hasType(list []record.Type, t record.Type) bool {
	for _, have := range list {
		if have == t {
			return true
		}
	}
	return false
}

// Known returns the record sets that the chain lists, where it was followed to its end.
func (w *Walk) Known() ([]record.Key, bool) { return w.known, w.whole }

// Names returns how many names were passed.
func (w *Walk) Names() int { return w.names }

// Failure returns why the walk did not come to the end of the chain.
func (w *Walk) Failure() string { return w.ended }
