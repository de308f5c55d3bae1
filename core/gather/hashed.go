package gather

import (
	"fmt"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// chain is the NSEC3 chain of a zone as far as it was seen (RFC 5155): it hides the names and tells how many there are.
type chain struct {
	links  map[string]*dns.NSEC3 // by hashed owner
	mixed  bool                  // records with other parameters were seen
	optOut bool                  // unsigned delegations may be missing in it (RFC 5155 section 6)
	gaps   int                   // questions asked to find the rest
	tries  int
}

func (c *chain) add(zone dnsname.Name, list []*dns.NSEC3) {
	for _, rr := range list {
		hash, rest, _ := strings.Cut(rr.Hdr.Name, ".")
		owner, err := dnsname.Parse(rest)
		if err != nil || owner != zone || rr.Iterations > 500 {
			continue
		}
		if c.links == nil {
			c.links = map[string]*dns.NSEC3{}
		}
		for _, other := range c.links {
			c.mixed = c.mixed || other.Salt != rr.Salt || other.Iterations != rr.Iterations || other.Hash != rr.Hash
			break
		}
		c.links[strings.ToUpper(hash)] = rr
		c.optOut = c.optOut || rr.Flags&1 != 0
	}
}

// any returns one of the records, for its parameters.
func (c *chain) any() *dns.NSEC3 {
	for _, rr := range c.links {
		return rr
	}
	return nil
}

func (c *chain) hash(name dnsname.Name) string {
	p := c.any()
	return dns.HashName(name.String(), p.Hash, p.Iterations, p.Salt)
}

// closed reports whether each record of the chain leads to one that was seen.
func (c *chain) closed() bool {
	for _, rr := range c.links {
		if c.links[strings.ToUpper(rr.NextDomain)] == nil {
			return false
		}
	}
	return len(c.links) > 0
}

// covers reports whether a record that was seen has the hash, or lies around it.
func (c *chain) covers(sorted []string, hash string) bool {
	at, found := slices.BinarySearch(sorted, hash)
	if found {
		return true
	}
	before := sorted[(at+len(sorted)-1)%len(sorted)]
	next := strings.ToUpper(c.links[before].NextDomain)
	if next <= before { // the last one, or the only one
		return hash > before || hash < next
	}
	return hash > before && hash < next
}

// fillChain asks for made-up names whose hashes lie where the chain was not seen yet, and for types of names found that it lists. It reports whether it asked for
// anything.
func (a *Asking) fillChain() bool {
	c := &a.chain
	if len(c.links) == 0 || c.mixed {
		return false
	}
	before := len(a.queue)
	if !c.closed() && c.gaps < mostGapsDone {
		sorted := make([]string, 0, len(c.links))
		for hash := range c.links {
			sorted = append(sorted, hash)
		}
		slices.Sort(sorted)
		for end := c.tries + 2000; c.tries < end && len(a.queue) < before+4; c.tries++ {
			name, err := dnsname.ParseRelative(fmt.Sprintf("%s-%d", a.opt.Label, c.tries), a.zone)
			if err != nil || c.covers(sorted, c.hash(name)) {
				continue
			}
			a.probes[name] = a.zone
			c.gaps++
			a.ask(record.Key{Name: name, Type: nobodysType}, 0)
		}
	}
	for _, name := range a.existingNames() {
		rr, n := c.links[c.hash(name)], a.nodes[name]
		if rr == nil || n == nil {
			continue
		}
		for _, t := range typesIn(rr.TypeBitMap) {
			if k := (record.Key{Name: name, Type: t}); !Plumbing(a.zone, k) && n.sets[t].IsZero() {
				a.ask(k, 0)
			}
		}
	}
	return len(a.queue) > before
}

// existingNames returns the names that the zone has as far as is known, empty non-terminals among them, in canonical order.
func (a *Asking) existingNames() (names []dnsname.Name) {
	sets, _ := a.found()
	there := map[dnsname.Name]bool{a.zone: true}
	for _, set := range sets {
		for at := set.Name; at.IsBelow(a.zone) && !there[at]; at = at.Parent() {
			if !a.cutAbove(at) {
				there[at] = true
			}
		}
	}
	for name := range there {
		names = append(names, name)
	}
	slices.SortFunc(names, dnsname.Name.Compare)
	return names
}

// claim compares the number of names in the chain with those that are known.
func (c *chain) claim(names []dnsname.Name) (Claim, string) {
	if c.mixed || !c.closed() {
		return Unknown, fmt.Sprintf("its NSEC3 chain was not seen as a whole; %d of its names are known", len(names))
	}
	unknown := len(c.links)
	for _, name := range names {
		if c.links[c.hash(name)] != nil {
			unknown--
		}
	}
	switch {
	case unknown > 0:
		return Partial, fmt.Sprintf("its NSEC3 chain has %d names, and %d of them were not found", len(c.links), unknown)
	case c.optOut:
		return Unknown, fmt.Sprintf("all %d names of its NSEC3 chain were found; unsigned delegations need not be in it (opt-out)", len(c.links))
	}
	return Complete, fmt.Sprintf("all %d names of its NSEC3 chain were found", len(c.links))
}
