package rdata

import (
	"fmt"
	"maps"
	"strconv"
	"strings"

	"github.com/miekg/dns"
)

// moreTypes are mnemonics that IANA assigned and the wire library does not know.
var moreTypes = map[string]uint16{
	"WKS": 11, "NSAP": 22, "A6": 38, "SINK": 40, "DSYNC": 66, "HHIT": 67, "BRID": 68, "DOA": 259, "WALLET": 262, "CLA": 263, "IPN": 264,
}

// TypeNumber returns the number of a type: of a mnemonic in any case, or of TYPE followed by it (RFC 3597 section 5).
func TypeNumber(text string) (uint16, bool) {
	upper := strings.ToUpper(text)
	if n, ok := dns.StringToType[upper]; ok {
		return n, true
	}
	if n, ok := moreTypes[upper]; ok {
		return n, true
	}
	digits, generic := strings.CutPrefix(upper, "TYPE")
	if n, err := decimal(digits, 1<<16-1); generic && err == nil {
		return uint16(n), true
	}
	return 0, false
}

// TypeName returns the mnemonic of a type, or TYPE followed by its number. Types that few servers know by name have the number.
func TypeName(t uint16) string {
	if name, ok := dns.TypeToString[t]; ok && t != dns.TypeNone && t != dns.TypeNXNAME && t != dns.TypeReserved {
		return name
	}
	return "TYPE" + strconv.Itoa(int(t))
}

// algorithms are the mnemonics of DNSSEC algorithms (IANA; RFC 4034 appendix A.1) and the spellings that servers read too.
var algorithms = map[string]uint64{
	"RSAMD5": 1, "DH": 2, "DSA": 3, "ECC": 4, "RSASHA1": 5, "DSA-NSEC3-SHA1": 6, "NSEC3DSA": 6, "RSASHA1-NSEC3-SHA1": 7, "NSEC3RSASHA1": 7,
	"RSASHA256": 8, "RSASHA512": 10, "ECC-GOST": 12, "ECCGOST": 12, "ECDSAP256SHA256": 13, "ECDSAP384SHA384": 14, "ED25519": 15, "ED448": 16,
	"INDIRECT": 252, "PRIVATEDNS": 253, "PRIVATEOID": 254,
}

// protocols are the mnemonics of the protocols of keys (RFC 2535 section 7.1).
var protocols = map[string]uint64{"NONE": 0, "TLS": 1, "EMAIL": 2, "DNSSEC": 3, "IPSEC": 4, "ALL": 255}

// certTypes are the mnemonics of certificate types (RFC 4398 section 2.1).
var certTypes = map[string]uint64{"PKIX": 1, "SPKI": 2, "PGP": 3, "IPKIX": 4, "ISPKI": 5, "IPGP": 6, "ACPKIX": 7, "IACPKIX": 8, "URI": 253, "OID": 254}

// said prints a number by its mnemonic where the wire library knows one.
func said(p part, size int, names map[uint64]string) part {
	p.print = func(o *octets, out *printer) error {
		n, err := o.number(size)
		if name, ok := names[n]; ok {
			out.word(name)
		} else {
			out.number(n)
		}
		return err
	}
	return p
}

func inverse[K ~uint8 | ~uint16](m map[K]string) map[uint64]string {
	out := map[uint64]string{}
	for k, v := range maps.All(m) {
		out[uint64(k)] = v
	}
	return out
}

// covered is the type that a signature covers.
var covered = part{"type covered", func(s *scanner, out []byte) ([]byte, error) {
	w, err := s.word()
	if err != nil {
		return nil, err
	}
	t, ok := TypeNumber(w)
	if !ok || t == 0 {
		return nil, fmt.Errorf("%q is no record type", w)
	}
	return appendNumber(out, uint64(t), 2), nil
}, func(o *octets, p *printer) error {
	n, err := o.number(2)
	p.word(TypeName(uint16(n)))
	return err
}}
