package primary

import (
	"context"
	"net/netip"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/soa"
)

// Zone is a zone as it is published at one moment.
type Zone struct {
	Name        dnsname.Name
	Serial      uint32
	Nameservers []dnsname.Name
	Contents    record.Contents // without SOA and apex NS, which follow from the rest
	SOA         soa.Parameters  // as desired; what is not given follows from Parameters
}

// Source returns what is published and to whom. It is safe for concurrent use.
type Source interface {
	// Key returns the secret of a key that is for a zone, in Base64; false where there is none of this name.
	Key(ctx context.Context, zone dnsname.Name, name string) (secret string, ok bool)
	// For returns the zone that somebody with a key may fetch from an address; false where there is none.
	For(ctx context.Context, name dnsname.Name, key string, from netip.Addr) (Zone, bool, error)
	// Since returns the published versions from the one with the given serial to the newest, both included; none where that
	// one is not known any more.
	Since(ctx context.Context, name dnsname.Name, serial uint32) ([]Zone, error)
	// Notified is told that somebody says that a zone has changed; false where nobody asked to be told.
	Notified(ctx context.Context, name dnsname.Name, from netip.Addr) bool
}

// Parameters returns the fields of the SOA record of a published zone (RFC 1035 section 3.3.13): as desired, and what is not desired as it is by
// itself. Then secondaries ask every quarter of an hour though they are notified, and serve for two weeks without us.
func Parameters(zone dnsname.Name, nameservers []dnsname.Name, desired soa.Parameters) soa.Parameters {
	p := soa.Parameters{Refresh: 900, Retry: 300, Expire: 14 * 86400, Minimum: 300, TTL: 3600}
	if len(nameservers) > 0 {
		p.MName = nameservers[0]
	}
	if at, err := zone.Child("hostmaster"); err == nil {
		p.RName = at
	}
	return desired.Over(p)
}

// soa returns the zone's SOA record.
func (z Zone) soa() *dns.SOA {
	p := Parameters(z.Name, z.Nameservers, z.SOA)
	return &dns.SOA{Hdr: dns.RR_Header{Name: z.Name.String(), Rrtype: dns.TypeSOA, Class: dns.ClassINET, Ttl: p.TTL},
		Ns: p.MName.String(), Mbox: p.RName.String(), Serial: z.Serial, Refresh: p.Refresh, Retry: p.Retry, Expire: p.Expire, Minttl: p.Minimum}
}

// StartOf returns a SOA record for those who ask where updates of a zone are sent (RFC 2136 section 4.3): to the server of that name. It is not the one that the zone is served with.
func StartOf(zone, server dnsname.Name, serial uint32) *dns.SOA {
	z := Zone{Name: zone, Serial: serial}
	if !server.IsZero() {
		z.Nameservers = []dnsname.Name{server}
	}
	soa := z.soa()
	if server.IsZero() {
		soa.Ns = "."
	}
	return soa
}

// nsTTL is the TTL of the apex NS set of published zones, in seconds.
const nsTTL = 3600

// records returns everything between the two SOAs of a transfer.
func (z Zone) records() (list []dns.RR, err error) {
	for _, ns := range z.Nameservers {
		list = append(list, &dns.NS{Hdr: dns.RR_Header{Name: z.Name.String(), Rrtype: dns.TypeNS, Class: dns.ClassINET, Ttl: nsTTL}, Ns: ns.String()})
	}
	more, err := wire(z.Contents.Records())
	return append(list, more...), err
}

func wire(records []record.Record) (list []dns.RR, err error) {
	for _, r := range records {
		rr, err := r.RR()
		if err != nil {
			return nil, err
		}
		list = append(list, rr)
	}
	return list, nil
}

// NextSerial returns the serial behind all of the given ones, in the arithmetic of RFC 1982, and never zero, which some take
// for none.
func NextSerial(serials ...uint32) uint32 {
	top := serials[0]
	for _, s := range serials[1:] {
		if Newer(s, top) {
			top = s
		}
	}
	if top++; top == 0 {
		top = 1
	}
	return top
}

// Newer reports whether serial a comes after b (RFC 1982 section 3.2).
func Newer(a, b uint32) bool { return a != b && int32(a-b) > 0 }
