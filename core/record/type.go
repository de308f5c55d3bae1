// Package record knows resource records: their types, the canonical form of their data, record sets, and the sorted
// contents of a zone. What it hands out is valid by construction; wire and presentation formats of single types come
// from rdata, everything above one record is decided here.
package record

import (
	"beacon/core/rdata"
	"fmt"
	"strings"

	"github.com/miekg/dns"
)

// Type is the number of a record type as IANA assigns it (RFC 6895).
type Type uint16

// The types that the code decides on; all others pass through by number.
const (
	A      Type = Type(dns.TypeA)
	NS     Type = Type(dns.TypeNS)
	CNAME  Type = Type(dns.TypeCNAME)
	SOA    Type = Type(dns.TypeSOA)
	PTR    Type = Type(dns.TypePTR)
	MX     Type = Type(dns.TypeMX)
	TXT    Type = Type(dns.TypeTXT)
	AAAA   Type = Type(dns.TypeAAAA)
	SRV    Type = Type(dns.TypeSRV)
	DNAME  Type = Type(dns.TypeDNAME)
	DS     Type = Type(dns.TypeDS)
	DNSKEY Type = Type(dns.TypeDNSKEY)
	CAA    Type = Type(dns.TypeCAA)
)

// ALIAS is a record of ours: the name has the addresses of another one. It is never sent to anybody: who serves the zone
// gets A and AAAA records that are kept right. Its number is one of those for private use (RFC 6895 section 3.1).
const ALIAS Type = 65345

// ParseType reads a mnemonic ("MX", in any case) or the generic form "TYPE123" (RFC 3597 section 5).
// Types that exist in questions only, such as ANY or AXFR, are refused.
func ParseType(text string) (Type, error) {
	upper := strings.ToUpper(text)
	if upper == "ALIAS" {
		return ALIAS, nil
	}
	number, known := rdata.TypeNumber(upper)
	switch {
	case !known:
		return 0, fmt.Errorf("%q is no record type; use a mnemonic such as A or MX, or TYPE followed by a number", text)
	case number == 0 || number == dns.TypeOPT || number >= 249 && number <= 255:
		return 0, fmt.Errorf("%s is not allowed in a zone", upper)
	}
	return Type(number), nil
}

func (t Type) String() string {
	if t == ALIAS {
		return "ALIAS"
	}
	return rdata.TypeName(uint16(t))
}

// MarshalText prints the mnemonic; the zero Type, which is none, gives empty text.
func (t Type) MarshalText() ([]byte, error) {
	if t == 0 {
		return nil, nil
	}
	return []byte(t.String()), nil
}

// UnmarshalText reads what MarshalText prints.
func (t *Type) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*t = 0
		return nil
	}
	parsed, err := ParseType(string(text))
	if err == nil {
		*t = parsed
	}
	return err
}
