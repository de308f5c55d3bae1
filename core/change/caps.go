// Package change says what a provider can do (Caps), what shall be done (Step, List), and in which requests (Pack).
//
// A step concerns one record set and carries it before and after, so that a step can be applied, checked and explained
// without anything else at hand. Nothing here talks to a provider.
package change

import (
	"fmt"
	"time"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

// Granularity is the smallest thing that a provider's interface writes.
type Granularity uint8

// A provider writes single records, record sets, or the whole zone in one go.
const (
	BySet Granularity = iota
	ByRecord
	ByZone
)

// Caps is what a provider can do with one zone. Drivers state it; nothing else in the product asks which provider it is.
type Caps struct {
	Granularity Granularity
	BatchSize   int           // most steps in one request; 0 for no limit
	Atomic      bool          // a request is done wholly or not at all
	TTLFloor    uint32        // seconds; smaller TTLs are raised to it
	OwnsApex    bool          // SOA and apex NS are the provider's, not to be written
	ReadLag     time.Duration // after a write, reads may be this much behind
	ApexAlias   bool          // the apex can have an ALIAS, which the provider keeps right itself
	Marks       bool          // reads carry a change mark, and writes can be made to depend on it
}

// Project gives wanted as this provider can hold it, with a finding for whatever it holds otherwise than asked.
func (c Caps) Project(zone dnsname.Name, wanted record.Contents) (record.Contents, []finding.Finding) {
	var found []finding.Finding
	projected := wanted.Filter(func(k record.Key) bool { return !c.Owned(zone, k) })
	if c.TTLFloor == 0 {
		return projected, nil
	}
	raised := 0
	projected = projected.Map(func(s record.Set) record.Set {
		if s.TTL < c.TTLFloor {
			s.TTL = c.TTLFloor
			raised++
		}
		return s
	})
	if raised > 0 {
		found = append(found, finding.Finding{Code: "ttl-raised", Severity: finding.Notice, Subject: zone.String(),
			Message: fmt.Sprintf("The provider's least TTL is %d s; %d record sets with less get that.", c.TTLFloor, raised),
			Remedy:  "Nothing to do, unless these names have to change quickly."})
	}
	return projected, found
}

// Owned reports whether the set at k belongs to the provider and not to us.
func (c Caps) Owned(zone dnsname.Name, k record.Key) bool {
	return c.OwnsApex && k.Name == zone && (k.Type == record.SOA || k.Type == record.NS)
}
