package rdata

import (
	"errors"
	"fmt"

	"github.com/miekg/dns"
)

// Parts that several types share.
var (
	preference = number("preference", 2)
	algorithm  = mnemonic("algorithm", 1, algorithms)
	target     = name("host", true)
	keyData    = form{parts: keyParts, check: privateAt(3, 4)}
	keyParts   = []part{number("flags", 2), mnemonic("protocol", 1, protocols), algorithm, base64Rest("key", 1)}
	service    = form{parts: []part{number("priority", 2), name("target", false), svcParams}}
	signature  = []part{covered, algorithm, number("labels", 1), number("original TTL", 4), moment("expiration"), moment("inception"),
		number("key tag", 2), name("signer", true), base64Rest("signature", 1)}
	association = form{parts: []part{number("usage", 1), number("selector", 1), number("matching type", 1), hexRest("certificate", 1, false)},
		check: digestAt(2, 3, map[byte]int{1: 32, 2: 64}, 1)}
	keyDigest = form{parts: []part{number("key tag", 2), algorithm, number("digest type", 1), hexRest("digest", 1, true)},
		check: digestAt(3, 4, map[byte]int{1: 20, 2: 32, 3: 32, 4: 48}, 1)}
)

func of(parts ...part) form  { return form{parts: parts} }
func old(parts ...part) form { return form{parts: parts, generic: true} }

// digestAt checks the length of a digest from octet begin on by its type at octet kind. Unknown types have at least least octets.
func digestAt(kind, begin int, sizes map[byte]int, least int) func([]byte) error {
	return func(wire []byte) error {
		have := len(wire) - begin
		want, known := sizes[wire[kind]]
		switch {
		case known && have != want:
			return fmt.Errorf("the digest has %d octets; type %d has %d", have, wire[kind], want)
		case have < least:
			return fmt.Errorf("the digest has %d octets; %d are the least", have, least)
		}
		return nil
	}
}

// checkTag wants letters and digits (RFC 8659 section 4.1).
var tag = part{"tag", func(s *scanner, out []byte) ([]byte, error) {
	w, err := s.word()
	if err != nil {
		return nil, err
	}
	return append(append(out, byte(len(w))), w...), checkTag([]byte(w))
}, func(o *octets, p *printer) error {
	octets, err := o.string()
	if err != nil {
		return err
	}
	p.word(string(octets))
	return checkTag(octets)
}}

func checkTag(octets []byte) error {
	for _, c := range octets {
		if (c < '0' || c > '9') && (c|0x20 < 'a' || c|0x20 > 'z') {
			return fmt.Errorf("%q has a character that is neither letter nor digit", octets)
		}
	}
	if len(octets) == 0 || len(octets) > 255 {
		return errors.New("it has 1 to 255 letters and digits")
	}
	return nil
}

// privateAt checks that key data from octet begin on begin with the name or object identifier that private algorithms have in
// front, where the octet at kind says such an algorithm (RFC 4034 appendix A.1.1).
func privateAt(kind, begin int) func([]byte) error {
	return func(wire []byte) error { return checkPrivate(wire[kind], &octets{wire[begin:]}) }
}

func checkPrivate(algorithm byte, data *octets) (err error) {
	var first []byte
	switch algorithm {
	case dns.PRIVATEDNS:
		_, err = data.name(false)
	case dns.PRIVATEOID:
		if first, err = data.string(); err == nil && len(first) == 0 {
			err = errShort
		}
	}
	if err != nil {
		return fmt.Errorf("private algorithm %d begins with a name or an object identifier: %w", algorithm, err)
	}
	return nil
}

// checkSignature wants the signer, which is the zone, at or above the owner: no more labels than the owner has (RFC 4034 sections
// 3.1.3 and 3.1.7).
func checkSignature(wire []byte) error {
	data := &octets{wire[18:]}
	labels := 0
	for n, _ := data.number(1); n > 0; n, _ = data.number(1) { // the name was read before
		labels++
		_, _ = data.take(int(n))
	}
	if labels > int(wire[3]) {
		return fmt.Errorf("the signer has %d labels, and the owner %d: a signer is at or above the owner", labels, wire[3])
	}
	return checkPrivate(wire[2], data)
}

// oldKey is the key of KEY, which flags may leave out (RFC 2535 section 3.1.2).
func oldKey() form {
	const noKey = 0xc0
	return form{parts: []part{keyParts[0], keyParts[1], algorithm, base64Rest("key", 0)}, check: func(wire []byte) error {
		if (wire[0]&noKey == noKey) != (len(wire) == 4) {
			return errors.New("the flags say whether there is a key, and it is not so")
		}
		return nil
	}}
}

// types are the forms of all types that have one.
var types = map[uint16]form{
	dns.TypeA: of(address("", 4)), dns.TypeAAAA: of(address("", 16)),
	dns.TypeNS: of(target), dns.TypeMD: of(target), dns.TypeMF: of(target), dns.TypeCNAME: of(target), dns.TypePTR: of(target), dns.TypeDNAME: of(target),
	dns.TypeMB: of(target), dns.TypeMG: of(target), dns.TypeMR: of(target), dns.TypeNSAPPTR: of(name("host", false)),
	dns.TypeMINFO: of(name("mailbox", true), name("error mailbox", true)), dns.TypeRP: of(name("mailbox", true), name("text", true)),
	dns.TypeSOA: of(name("primary", true), name("mailbox", true), number("serial", 4), seconds("refresh"), seconds("retry"), seconds("expire"), seconds("minimum")),
	dns.TypeMX:  of(preference, target), dns.TypeKX: of(preference, target), dns.TypeRT: of(preference, target), dns.TypeAFSDB: of(number("subtype", 2), target),
	dns.TypePX: of(preference, name("first name", true), name("second name", true)), dns.TypeLP: of(preference, name("host", false)),
	dns.TypeSRV:   of(number("priority", 2), number("weight", 2), number("port", 2), name("target", true)),
	dns.TypeNAPTR: of(number("order", 2), preference, text("flags"), text("service"), text("expression"), name("replacement", true)),
	dns.TypeTXT:   of(texts), dns.TypeSPF: of(texts), dns.TypeAVC: of(texts), dns.TypeNINFO: of(texts), dns.TypeRESINFO: of(texts),
	dns.TypeHINFO: of(text("processor"), text("operating system")), dns.TypeX25: of(digits("", 4)), dns.TypeISDN: of(text("address"), subAddress),
	dns.TypeGPOS: of(degrees("longitude", -180, 180), degrees("latitude", -180, 180), degrees("altitude", -1e9, 1e9)),
	dns.TypeLOC:  of(location), dns.TypeAPL: of(prefixes), dns.TypeCAA: of(number("flags", 1), tag, longText("value", 0)),
	dns.TypeURI:      of(number("priority", 2), number("weight", 2), longText("target", 1)),
	dns.TypeIPSECKEY: of(number("precedence", 1), ipsecGateway), dns.TypeAMTRELAY: of(number("precedence", 1), amtRelay), dns.TypeHIP: of(hostIdentity),
	dns.TypeSVCB: service, dns.TypeHTTPS: service,
	dns.TypeDS: keyDigest, dns.TypeCDS: keyDigest, dns.TypeDLV: keyDigest, dns.TypeTA: keyDigest,
	dns.TypeDNSKEY: keyData, dns.TypeCDNSKEY: keyData, dns.TypeRKEY: of(keyParts...), dns.TypeKEY: oldKey(),
	dns.TypeRRSIG: {parts: signature, check: checkSignature}, dns.TypeSIG: of(signature...),
	dns.TypeNSEC: of(name("next name", false), bitmap), dns.TypeNXT: of(name("next name", true), oldBitmap),
	dns.TypeNSEC3:      of(number("hash algorithm", 1), number("flags", 1), number("iterations", 2), salt, hashedName, bitmap),
	dns.TypeNSEC3PARAM: of(number("hash algorithm", 1), number("flags", 1), number("iterations", 2), salt),
	dns.TypeCSYNC:      of(number("serial", 4), number("flags", 2), bitmap),
	dns.TypeZONEMD: {parts: []part{number("serial", 4), number("scheme", 1), number("hash algorithm", 1), hexRest("digest", 12, false)},
		check: digestAt(5, 6, map[byte]int{1: 48, 2: 64}, 12)},
	dns.TypeSSHFP: {parts: []part{number("algorithm", 1), number("digest type", 1), hexRest("fingerprint", 1, true)}, check: digestAt(1, 2, map[byte]int{1: 20, 2: 32}, 1)},
	dns.TypeTLSA:  association, dns.TypeSMIMEA: association,
	dns.TypeCERT: of(said(mnemonic("type", 2, certTypes), 2, inverse(dns.CertTypeToString)), number("key tag", 2),
		said(algorithm, 1, inverse(dns.AlgorithmToString)), base64Rest("certificate", 1)),
	dns.TypeOPENPGPKEY: of(base64Rest("key", 1)), dns.TypeDHCID: of(base64Rest("identifier", 3)),
	dns.TypeTALINK: of(name("previous name", false), name("next name", false)),
	dns.TypeNID:    of(preference, locator), dns.TypeL64: of(preference, locator), dns.TypeL32: of(preference, locator32),
	dns.TypeEUI48: of(eui(6)), dns.TypeEUI64: of(eui(8)),
	dns.TypeUID: of(number("", 4)), dns.TypeGID: of(number("", 4)), dns.TypeUINFO: of(text("")),
	dns.TypeEID: of(hexRest("", 1, true)), dns.TypeNIMLOC: of(hexRest("", 1, true)),
	dns.TypeATMA: old(atmAddress), moreTypes["NSAP"]: old(nsap), moreTypes["WKS"]: old(address("address", 4), ports), moreTypes["A6"]: old(addressV6),
	moreTypes["DSYNC"]: old(covered, number("scheme", 1), number("port", 2), name("target", false)),
}
