package rdata

import (
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
)

// Types of the early days, which few servers still read by name.

// digits is a character-string of decimal digits, at least so many (RFC 1183 section 3.1).
func digits(name string, least int) part {
	p := text(name)
	read, print := p.read, p.print
	check := func(octets []byte) error {
		if len(octets) < least || strings.Trim(string(octets), "0123456789") != "" {
			return fmt.Errorf("%q is no number of %d digits or more", octets, least)
		}
		return nil
	}
	p.read = func(s *scanner, out []byte) ([]byte, error) {
		from := len(out)
		out, err := read(s, out)
		if err != nil {
			return nil, err
		}
		return out, check(out[from+1:])
	}
	p.print = func(o *octets, out *printer) error {
		before := o.data
		if err := print(o, out); err != nil {
			return err
		}
		return check(before[1 : len(before)-len(o.data)])
	}
	return p
}

// subAddress is a second character-string that may be missing; an empty one is the same as none.
var subAddress = part{"sub-address", func(s *scanner, out []byte) ([]byte, error) {
	t, ok := s.peek()
	if !ok || t.text == "" {
		s.at = min(s.at+1, len(s.tokens))
		return out, nil
	}
	return text("").read(s, out)
}, func(o *octets, p *printer) error {
	if len(o.data) == 1 && o.data[0] == 0 {
		o.data = nil
	}
	if len(o.data) == 0 {
		return nil
	}
	return text("").print(o, p)
}}

// degrees is a character-string with a decimal number between two bounds (RFC 1712 section 3).
func degrees(name string, least, most float64) part {
	check := func(octets []byte) error {
		n, err := strconv.ParseFloat(string(octets), 64)
		if err != nil || n < least || n > most || strings.Trim(string(octets), "+-.0123456789") != "" {
			return fmt.Errorf("%q is no number from %g to %g", octets, least, most)
		}
		return nil
	}
	return part{name, func(s *scanner, out []byte) ([]byte, error) {
		from := len(out)
		out, err := text("").read(s, out)
		if err != nil {
			return nil, err
		}
		return out, check(out[from+1:])
	}, func(o *octets, p *printer) error {
		octets, err := o.string()
		if err != nil {
			return err
		}
		p.word(string(octets))
		return check(octets)
	}}
}

// oneText is a string without a number in front, of decimal digits behind "+" or of hexadecimal octets (ATM address, AF-SAA-0069).
var atmAddress = part{"", func(s *scanner, out []byte) ([]byte, error) {
	w, err := s.word()
	if err != nil {
		return nil, err
	}
	if number, e164 := strings.CutPrefix(w, "+"); e164 {
		number = strings.ReplaceAll(number, ".", "")
		if number == "" || strings.Trim(number, "0123456789") != "" {
			return nil, fmt.Errorf("%q is no number", w)
		}
		return append(append(out, 1), number...), nil
	}
	octets, err := hex.DecodeString(strings.ReplaceAll(w, ".", ""))
	if err != nil || len(octets) == 0 || strings.HasPrefix(w, ".") || strings.HasSuffix(w, ".") {
		return nil, fmt.Errorf("%q is no address in hexadecimal digits", w)
	}
	return append(append(out, 0), octets...), nil
}, func(o *octets, p *printer) error {
	octets := o.rest()
	if len(octets) < 2 || octets[0] > 1 || octets[0] == 1 && strings.Trim(string(octets[1:]), "0123456789") != "" {
		return errors.New("the address is of no known form")
	}
	p.word("ATM")
	return nil
}}

// nsap is 0x and hexadecimal digits, which dots may part (RFC 1706 section 7).
var nsap = part{"", func(s *scanner, out []byte) ([]byte, error) {
	w, err := s.word()
	if err != nil {
		return nil, err
	}
	digits, ok := strings.CutPrefix(strings.ToLower(w), "0x")
	octets, err := hex.DecodeString(strings.ReplaceAll(digits, ".", ""))
	if !ok || err != nil || len(octets) == 0 {
		return nil, fmt.Errorf("%q is no 0x and an even number of hexadecimal digits", w)
	}
	return append(out, octets...), nil
}, func(o *octets, p *printer) error {
	if len(o.rest()) == 0 {
		return errShort
	}
	p.word("NSAP")
	return nil
}}

// ports are the services of WKS by number or by the names of RFC 1010 that are still in use (RFC 1035 section 3.4.2).
var ports = part{"services", func(s *scanner, out []byte) ([]byte, error) {
	w, err := s.word()
	if err != nil {
		return nil, fmt.Errorf("protocol: %w", err)
	}
	protocol, known := map[string]uint64{"ICMP": 1, "TCP": 6, "UDP": 17}[strings.ToUpper(w)]
	if !known {
		if protocol, err = decimal(w, 255); err != nil {
			return nil, fmt.Errorf("protocol: %w", err)
		}
	}
	out = append(out, byte(protocol))
	var bits []byte
	for s.at < len(s.tokens) {
		w, err := s.word()
		if err != nil {
			return nil, err
		}
		port, known := wellKnown[strings.ToLower(w)]
		if !known {
			if port, err = decimal(w, 1<<16-1); err != nil {
				return nil, err
			}
		}
		for uint64(len(bits)) <= port/8 {
			bits = append(bits, 0)
		}
		bits[port/8] |= 0x80 >> (port % 8)
	}
	return append(out, bits...), nil
}, func(o *octets, p *printer) error {
	if _, err := o.number(1); err != nil {
		return err
	}
	if bits := o.rest(); len(bits) > 8192 {
		return errors.New("the list of services is longer than there are ports")
	}
	p.word("ports")
	return nil
}}

var wellKnown = map[string]uint64{"echo": 7, "discard": 9, "systat": 11, "daytime": 13, "netstat": 15, "qotd": 17, "chargen": 19, "ftp-data": 20, "ftp": 21, "ssh": 22,
	"telnet": 23, "smtp": 25, "time": 37, "whois": 43, "tacacs": 49, "domain": 53, "tftp": 69, "gopher": 70, "finger": 79, "http": 80, "kerberos": 88, "hostnames": 101,
	"pop2": 109, "pop3": 110, "sunrpc": 111, "nntp": 119, "ntp": 123, "imap2": 143, "snmp": 161, "bgp": 179, "https": 443}

// addressV6 is the data of A6: prefix length, the rest of the address, the name of the prefix (RFC 2874 section 3).
var addressV6 = part{"", func(s *scanner, out []byte) ([]byte, error) {
	length, err := s.number("prefix length", 128)
	if err != nil {
		return nil, err
	}
	out = append(out, byte(length))
	if length < 128 {
		w, err := s.word()
		if err != nil {
			return nil, err
		}
		addr, err := addressOf(w, 16)
		if err != nil {
			return nil, err
		}
		suffix := addr.As16()
		from := length / 8
		suffix[from] &= 0xff >> (length % 8)
		out = append(out, suffix[from:]...)
	}
	if length == 0 {
		return out, nil
	}
	w, err := s.word()
	if err != nil {
		return nil, fmt.Errorf("prefix name: %w", err)
	}
	return appendName(out, w, s.origin, true)
}, func(o *octets, p *printer) error {
	length, err := o.number(1)
	if err != nil || length > 128 {
		return errors.New("the prefix length is out of range")
	}
	suffix, err := o.take(int(128-length+7) / 8)
	if err != nil {
		return err
	}
	if len(suffix) > 0 && suffix[0]&^(0xff>>(length%8)) != 0 {
		return errors.New("bits before the prefix length are set")
	}
	p.word("A6")
	if length == 0 {
		return nil
	}
	_, err = o.name(true)
	return err
}}

// eui is a hardware address: octets in hexadecimal with hyphens between them (RFC 7043 sections 3.2 and 4.2).
func eui(size int) part {
	return part{"", func(s *scanner, out []byte) ([]byte, error) {
		w, err := s.word()
		if err != nil {
			return nil, err
		}
		octets, err := hex.DecodeString(strings.ReplaceAll(w, "-", ""))
		if err != nil || len(octets) != size || hyphened(octets) != strings.ToLower(w) {
			return nil, fmt.Errorf("%q is no address of %d octets with hyphens between them", w, size)
		}
		return append(out, octets...), nil
	}, func(o *octets, p *printer) error {
		octets, err := o.take(size)
		p.word(hyphened(octets))
		return err
	}}
}

func hyphened(octets []byte) string {
	var b strings.Builder
	for i, o := range octets {
		if i > 0 {
			b.WriteByte('-')
		}
		fmt.Fprintf(&b, "%02x", o)
	}
	return b.String()
}

// locator is 64 bits as four groups of up to four hexadecimal digits (RFC 6742 sections 2.1.2 and 2.3.2).
var locator = part{"locator", func(s *scanner, out []byte) ([]byte, error) {
	w, err := s.word()
	if err != nil {
		return nil, err
	}
	groups := strings.Split(w, ":")
	for _, g := range groups {
		n, err := strconv.ParseUint(g, 16, 16)
		if err != nil || len(g) > 4 || len(groups) != 4 || g[0] == '+' {
			return nil, fmt.Errorf("%q is not four groups of hexadecimal digits", w)
		}
		out = appendNumber(out, n, 2)
	}
	return out, nil
}, func(o *octets, p *printer) error {
	octets, err := o.take(8)
	if err != nil {
		return err
	}
	p.word(fmt.Sprintf("%x:%x:%x:%x", octets[0:2], octets[2:4], octets[4:6], octets[6:8]))
	return nil
}}

// locator32 is an IPv4 address as RFC 6742 section 2.2.2 writes it.
var locator32 = part{"locator", func(s *scanner, out []byte) ([]byte, error) {
	w, err := s.word()
	if err != nil {
		return nil, err
	}
	addr, err := netip.ParseAddr(w)
	if err != nil || !addr.Is4() {
		return nil, fmt.Errorf("%q is no locator; write it like an IPv4 address", w)
	}
	return append(out, addr.AsSlice()...), nil
}, address("locator", 4).print}
