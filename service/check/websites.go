package check

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/reach"
	"beacon/service/zones"
	"beacon/store"
	"beacon/visit"
)

// Visitor makes what looks at web hosts. Whoever can name an address in a zone must not have us knock at the neighbours.
func (s WebsiteSettings) Visitor(door *reach.Door, now func() time.Time) (*visit.Visitor, error) {
	trusted, err := reach.Authorities(s.CAFile)
	if err != nil {
		return nil, fmt.Errorf("the setting sites.authority: %w", err)
	}
	return &visit.Visitor{Door: door, Trusted: trusted, Detours: s.Overrides, Now: now, Patience: s.Timeout}, nil
}

// planSites adds to a plan where the definition has the domain's sites, the TTL of its nameservers where it states them, and which
// nameservers give what we write.
func planSites(tx *store.Tx, z store.Zone, plan *delegation.Plan) error {
	placements, err := zones.Placements(tx, z.ID)
	if err != nil {
		return err
	}
	plan.Writable = []dnsname.Name{}
	for _, p := range placements {
		if p.RemoteID != "" {
			plan.Writable = append(plan.Writable, p.Names()...)
		}
	}
	if z.RowsID == nil {
		return nil
	}
	apex, err := zones.RecordsAt(tx, z.ID, z.Name())
	if err != nil {
		return err
	}
	for _, r := range apex {
		if r.Type == record.NS {
			plan.TTL = r.TTL
		}
	}
	for _, site := range zones.SitesOf(z) {
		at := site
		for range longestAlias {
			records, err := zones.RecordsAt(tx, z.ID, at)
			if err != nil {
				return err
			}
			addresses, next, known := siteAddresses(records)
			if known && len(addresses) > 0 {
				plan.Sites = append(plan.Sites, delegation.SitePlan{Name: site, Addresses: addresses})
			}
			if !next.IsBelow(z.Name()) && next != z.Name() {
				break
			}
			at = next
		}
	}
	return nil
}

// longestAlias bounds the CNAME records that are followed within a zone.
const longestAlias = 8

// siteAddresses reads the addresses at a name, or where it leads; what an ALIAS stands for is known to its target alone.
func siteAddresses(records []record.Record) (list []netip.Addr, next dnsname.Name, known bool) {
	for _, r := range records {
		switch r.Type {
		case record.A, record.AAAA:
			if a, err := netip.ParseAddr(string(r.Data)); err == nil {
				list = append(list, a)
			}
		case record.CNAME:
			next, _ = dnsname.Parse(string(r.Data))
		case record.ALIAS:
			return nil, dnsname.Name{}, false
		}
	}
	slices.SortFunc(list, netip.Addr.Compare)
	return list, next, true
}
