package record

import (
	"fmt"

	"beacon/core/dnsname"
	"beacon/core/finding"
)

// Collide reports whether sets of the two types cannot stand at one name: a CNAME tolerates no other data
// (RFC 1034 section 3.6.2) but what DNSSEC adds beside it (RFC 4035 section 2.5).
func Collide(a, b Type) bool {
	const nsec, rrsig, key = 47, 46, 25
	beside := func(t Type) bool { return t == CNAME || t == nsec || t == rrsig || t == key }
	return a != b && (a == CNAME && !beside(b) || b == CNAME && !beside(a))
}

// Check judges contents as those of zone: what no nameserver could serve is an error.
func Check(zone dnsname.Name, c Contents) []finding.Finding {
	var found []finding.Finding
	fail := func(code string, subject Key, message, remedy string) {
		found = append(found, finding.Finding{Code: code, Severity: finding.Error, Subject: subject.String(),
			Message: message, Remedy: remedy})
	}
	for s := range c.Sets() {
		key := s.Key()
		if !s.Name.IsAtOrBelow(zone) {
			fail("outside-zone", key, fmt.Sprintf("The name does not lie in the zone %s.", zone),
				"Correct the name, or put the record into the zone it belongs to.")
			continue
		}
		if s.TTL > MaxTTL {
			fail("ttl-too-large", key, fmt.Sprintf("The TTL of %d s is more than the protocol allows (2147483647).", s.TTL),
				"Use a TTL of at most a week, 604800.")
		}
		if s.Type == SOA && s.Name != zone {
			fail("soa-below-apex", key, "Only the apex of a zone has an SOA record.", "Take the record out.")
		}
		if s.Type != CNAME {
			continue
		}
		if len(s.Data) > 1 {
			fail("several-cname", key, "A name can have one CNAME only.", "Keep the one that is meant, take the others out.")
		}
		if s.Name == zone {
			fail("cname-at-apex", key, "The apex always has SOA and NS records, which no CNAME can stand beside.",
				"Write the addresses themselves as A and AAAA records.")
			continue
		}
		for _, other := range c.At(s.Name) {
			if Collide(CNAME, other.Type) {
				fail("cname-beside-data", key, fmt.Sprintf("The name also has %s records, which no CNAME can stand beside.", other.Type),
					fmt.Sprintf("Take out either the CNAME or the %s records.", other.Type))
				break
			}
		}
	}
	finding.Sort(found)
	return found
}
