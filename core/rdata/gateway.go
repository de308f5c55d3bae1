package rdata

import (
	"encoding/base64"
	"errors"
	"fmt"
	"net/netip"
	"strings"
)

// Kinds of gateways and relays (RFC 4025 section 2.3, RFC 8777 section 4.2.3).
const (
	noGateway = iota
	gatewayIPv4
	gatewayIPv6
	gatewayName
)

func readGateway(s *scanner, kind uint64, out []byte) ([]byte, error) {
	w, err := s.word()
	if err != nil {
		return nil, err
	}
	switch kind {
	case noGateway:
		if w != "." {
			return nil, fmt.Errorf(`%q is given, but type 0 has none; write "."`, w)
		}
		return out, nil
	case gatewayIPv4, gatewayIPv6:
		addr, err := addressOf(w, map[uint64]int{gatewayIPv4: 4, gatewayIPv6: 16}[kind])
		return append(out, addr.AsSlice()...), err
	case gatewayName:
		return appendName(out, w, s.origin, false)
	}
	return nil, fmt.Errorf("type %d is not known; it is 0 to 3", kind)
}

func printGateway(o *octets, kind uint64, p *printer) error {
	size := 4
	switch kind {
	case noGateway:
		p.word(".")
		return nil
	case gatewayName:
		text, err := o.name(false)
		p.word(text)
		return err
	case gatewayIPv6:
		size = 16
	case gatewayIPv4:
	default:
		return fmt.Errorf("type %d is not known; it is 0 to 3", kind)
	}
	taken, err := o.take(size)
	if err == nil {
		p.word(addressText(taken))
	}
	return err
}

// ipsecGateway is gateway type, algorithm, gateway and key (RFC 4025 section 3.1).
var ipsecGateway = part{"gateway", func(s *scanner, out []byte) ([]byte, error) {
	kind, err := s.number("type", 255)
	if err != nil {
		return nil, err
	}
	algorithm, err := s.number("algorithm", 255)
	if err != nil {
		return nil, err
	}
	out, err = readGateway(s, kind, append(out, byte(kind), byte(algorithm)))
	if err != nil {
		return nil, err
	}
	digits, err := s.restWords()
	if err != nil {
		return nil, err
	}
	key, err := readBase64(digits)
	if err == nil && (algorithm == 0) != (len(key) == 0) {
		err = errors.New("algorithm 0 stands for no key, and any other one needs a key")
	}
	return append(out, key...), err
}, func(o *octets, p *printer) error {
	head, err := o.take(2)
	if err != nil {
		return err
	}
	p.number(uint64(head[0]))
	p.number(uint64(head[1]))
	if err := printGateway(o, uint64(head[0]), p); err != nil {
		return err
	}
	if (head[1] == 0) != (len(o.data) == 0) {
		return errors.New("algorithm 0 stands for no key, and any other one needs a key")
	}
	if len(o.data) > 0 {
		p.word(base64.StdEncoding.EncodeToString(o.rest()))
	}
	return nil
}}

// amtRelay is discovery-optional, relay type and relay (RFC 8777 section 4.3.1).
var amtRelay = part{"relay", func(s *scanner, out []byte) ([]byte, error) {
	optional, err := s.number("discovery-optional", 1)
	if err != nil {
		return nil, err
	}
	kind, err := s.number("type", 127)
	if err != nil {
		return nil, err
	}
	return readGateway(s, kind, append(out, byte(optional<<7|kind)))
}, func(o *octets, p *printer) error {
	n, err := o.number(1)
	if err != nil {
		return err
	}
	p.number(n >> 7)
	p.number(n & 127)
	return printGateway(o, n&127, p)
}}

// hostIdentity is the data of HIP: algorithm, identity tag, key, rendezvous servers (RFC 8005 sections 5 and 6).
var hostIdentity = part{"", func(s *scanner, out []byte) ([]byte, error) {
	algorithm, err := s.number("algorithm", 255)
	if err != nil {
		return nil, err
	}
	tag, err := s.word()
	if err != nil {
		return nil, err
	}
	hit, err := readHex(&scanner{tokens: []token{{text: tag}}})
	if err != nil {
		return nil, err
	}
	digits, err := s.word()
	if err != nil {
		return nil, err
	}
	key, err := readBase64(digits)
	if err != nil {
		return nil, err
	}
	if len(hit) == 0 || len(hit) > 255 || len(key) == 0 || len(key) > maxData {
		return nil, errors.New("the identity tag has 1 to 255 octets, and the key at least one")
	}
	out = appendNumber(append(out, byte(len(hit)), byte(algorithm)), uint64(len(key)), 2)
	out = append(append(out, hit...), key...)
	for s.at < len(s.tokens) {
		w, err := s.word()
		if err != nil {
			return nil, err
		}
		if out, err = appendName(out, w, s.origin, false); err != nil {
			return nil, err
		}
	}
	return out, nil
}, func(o *octets, p *printer) error {
	head, err := o.take(4)
	if err != nil {
		return err
	}
	hit, err := o.take(int(head[0]))
	if err != nil {
		return err
	}
	key, err := o.take(int(head[2])<<8 | int(head[3]))
	if err != nil {
		return err
	}
	if len(hit) == 0 || len(key) == 0 {
		return errShort
	}
	p.number(uint64(head[1]))
	p.word(hexText(hit, false))
	p.word(base64.StdEncoding.EncodeToString(key))
	for len(o.data) > 0 {
		text, err := o.name(false)
		if err != nil {
			return err
		}
		p.word(text)
	}
	return nil
}}

// prefixes is the data of APL: [!]family:address/prefix, any number of them (RFC 3123 sections 4 and 5).
var prefixes = part{"", func(s *scanner, out []byte) ([]byte, error) {
	for s.at < len(s.tokens) {
		w, err := s.word()
		if err != nil {
			return nil, err
		}
		if out, err = appendPrefix(out, w); err != nil {
			return nil, err
		}
	}
	return out, nil
}, func(o *octets, p *printer) error {
	for len(o.data) > 0 {
		head, err := o.take(4)
		if err != nil {
			return err
		}
		size, negated := int(head[3]&127), head[3]&128 != 0
		family := int(head[0])<<8 | int(head[1])
		full := map[int]int{1: 4, 2: 16}[family]
		if full == 0 || size > full || int(head[2]) > 8*full {
			return fmt.Errorf("family %d with a prefix of %d bits in %d octets is not known", family, head[2], size)
		}
		part, err := o.take(size)
		if err != nil {
			return err
		}
		if size > 0 && part[size-1] == 0 {
			return errors.New("an address ends in zero octets, which are left out")
		}
		text := fmt.Sprintf("%d:%s/%d", family, addressText(append(part[:size:size], make([]byte, full-size)...)), head[2])
		if negated {
			text = "!" + text
		}
		p.word(text)
	}
	return nil
}}

func appendPrefix(out []byte, w string) ([]byte, error) {
	text, negated := strings.CutPrefix(w, "!")
	family, prefix, ok := strings.Cut(text, ":")
	address, bits, parted := strings.Cut(prefix, "/")
	addr, err := netip.ParseAddr(address)
	size := map[string]int{"1": 4, "2": 16}[strings.TrimLeft(family, "0")]
	if !ok || !parted || err != nil || addr.Zone() != "" || size == 0 || addr.BitLen() != 8*size {
		return nil, fmt.Errorf(`%q is no address prefix; write it like "1:192.0.2.0/24" or "!2:2001:db8::/32"`, w)
	}
	length, err := decimal(bits, uint64(8*size))
	if err != nil {
		return nil, err
	}
	octets := addr.AsSlice()
	for len(octets) > 0 && octets[len(octets)-1] == 0 {
		octets = octets[:len(octets)-1]
	}
	head := byte(len(octets))
	if negated {
		head |= 128
	}
	out = append(appendNumber(out, uint64(size/15+1), 2), byte(length), head)
	return append(out, octets...), nil
}
