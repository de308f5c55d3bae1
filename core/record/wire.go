package record

import (
	"beacon/core/dnsname"
	"beacon/core/rdata"
	"bytes"
	"encoding/hex"
	"fmt"
	"slices"

	"github.com/miekg/dns"
)

// Wire returns the record's data in wire form, without compression and with names in lower case, as DNSSEC signs them
// (RFC 4034 section 6.2).
func (r Record) Wire() ([]byte, error) {
	as := r.Type
	if as == ALIAS {
		as = CNAME // a name, and nothing else
	}
	wire, err := rdata.Parse(uint16(as), string(r.Data), dnsname.Root)
	if err != nil {
		return nil, fmt.Errorf("data of %s %s: %w", r.Name, r.Type, err)
	}
	return wire, nil
}

// RR returns the record for a message. Its data are octets: no reader of single types is needed to send them.
func (r Record) RR() (dns.RR, error) {
	wire, err := r.Wire()
	if err != nil {
		return nil, err
	}
	header := dns.RR_Header{Name: r.Name.String(), Rrtype: uint16(r.Type), Class: dns.ClassINET, Ttl: r.TTL}
	return &dns.RFC3597{Hdr: header, Rdata: hex.EncodeToString(wire)}, nil
}

// Canonical returns all records in the order of DNSSEC: names as RFC 4034 section 6.1 has them, then types by number, then
// data by octets (section 6.3). Data whose wire form cannot be had keep their order by text.
func (c Contents) Canonical() []Record {
	out := slices.Clone(c.records)
	for start := 0; start < len(out); {
		end := EndOfSet(out, start)
		if end-start > 1 {
			sortByWire(out[start:end])
		}
		start = end
	}
	return out
}

func sortByWire(set []Record) {
	type pair struct {
		wire []byte
		r    Record
	}
	pairs := make([]pair, len(set))
	for i, r := range set {
		wire, err := r.Wire()
		if err != nil {
			return
		}
		pairs[i] = pair{wire, r}
	}
	slices.SortStableFunc(pairs, func(a, b pair) int { return bytes.Compare(a.wire, b.wire) })
	for i, p := range pairs {
		set[i] = p.r
	}
}
