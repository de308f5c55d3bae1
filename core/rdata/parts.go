package rdata

import (
	"encoding/base32"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"beacon/core/dnsname"
)

func appendNumber(out []byte, n uint64, size int) []byte {
	for i := size - 1; i >= 0; i-- {
		out = append(out, byte(n>>(8*i)))
	}
	return out
}

// number is an unsigned integer of size octets.
func number(name string, size int) part { return mnemonic(name, size, nil) }

// mnemonic is a number for which words are known; it is printed as a number.
func mnemonic(name string, size int, words map[string]uint64) part {
	most := uint64(1)<<(8*size) - 1
	return part{name, func(s *scanner, out []byte) ([]byte, error) {
		w, err := s.word()
		if err != nil {
			return nil, err
		}
		n, known := words[strings.ToUpper(w)]
		if !known {
			if n, err = decimal(w, most); err != nil {
				return nil, err
			}
		}
		return appendNumber(out, n, size), nil
	}, func(o *octets, p *printer) error {
		n, err := o.number(size)
		p.number(n)
		return err
	}}
}

// seconds is a number of 32 bits that may have the units of TTLs.
func seconds(name string) part {
	p := number(name, 4)
	p.read = func(s *scanner, out []byte) ([]byte, error) {
		w, err := s.word()
		if err != nil {
			return nil, err
		}
		n, err := duration(w)
		return appendNumber(out, n, 4), err
	}
	return p
}

// duration reads seconds, or numbers with the units s, m, h, d and w.
func duration(text string) (total uint64, err error) {
	for rest := text; rest != "" || text == ""; {
		digits := len(rest) - len(strings.TrimLeft(rest, "0123456789"))
		n, err := decimal(rest[:digits], 1<<32-1)
		if err != nil {
			return 0, fmt.Errorf("%q is no number of seconds", text)
		}
		unit := uint64(1)
		if digits < len(rest) {
			at := strings.IndexByte("smhdw", rest[digits]|0x20)
			if at < 0 {
				return 0, fmt.Errorf("%q is no number of seconds", text)
			}
			unit = [...]uint64{1, 60, 3600, 86400, 604800}[at]
			digits++
		}
		total += n * unit
		rest = rest[digits:]
	}
	if total > 1<<32-1 {
		return 0, fmt.Errorf("%s is more than %d seconds", text, uint32(1<<32-1))
	}
	return total, nil
}

// moment is a time of a signature: YYYYMMDDHHmmSS in UTC, or seconds since 1970 (RFC 4034 section 3.2).
func moment(name string) part {
	const layout = "20060102150405"
	return part{name, func(s *scanner, out []byte) ([]byte, error) {
		w, err := s.word()
		if err != nil {
			return nil, err
		}
		if len(w) == len(layout) {
			at, err := time.Parse(layout, w)
			if err != nil || at.Unix() < 0 {
				return nil, fmt.Errorf("%q is no time; write YYYYMMDDHHmmSS", w)
			}
			return appendNumber(out, uint64(at.Unix())&(1<<32-1), 4), nil // modulo 2^32: section 3.1.5
		}
		n, err := decimal(w, 1<<32-1)
		return appendNumber(out, n, 4), err
	}, func(o *octets, p *printer) error {
		n, err := o.number(4)
		p.word(time.Unix(int64(n), 0).UTC().Format(layout))
		return err
	}}
}

// address is an IPv4 or IPv6 address.
func address(name string, size int) part {
	return part{name, func(s *scanner, out []byte) ([]byte, error) {
		w, err := s.word()
		if err != nil {
			return nil, err
		}
		addr, err := addressOf(w, size)
		return append(out, addr.AsSlice()...), err
	}, func(o *octets, p *printer) error {
		taken, err := o.take(size)
		if err == nil {
			p.word(addressText(taken))
		}
		return err
	}}
}

func addressOf(text string, size int) (netip.Addr, error) {
	addr, err := netip.ParseAddr(text)
	if err != nil || addr.Zone() != "" || addr.BitLen() != 8*size {
		return netip.Addr{}, fmt.Errorf("%q is no IPv%d address", text, map[int]int{4: 4, 16: 6}[size])
	}
	return addr, nil
}

func addressText(octets []byte) string {
	addr, _ := netip.AddrFromSlice(octets)
	return addr.String()
}

// name is a domain name; lower says that its canonical form is in lower case.
func name(label string, lower bool) part {
	return part{label, func(s *scanner, out []byte) ([]byte, error) {
		w, err := s.word()
		if err != nil {
			return nil, err
		}
		return appendName(out, w, s.origin, lower)
	}, func(o *octets, p *printer) error {
		text, err := o.name(lower)
		p.word(text)
		return err
	}}
}

func appendName(out []byte, text string, origin dnsname.Name, lower bool) ([]byte, error) {
	n, err := dnsname.ParseRelative(text, origin)
	if err != nil {
		return nil, err
	}
	if lower || text == "@" || text == "." {
		return n.AppendWire(out), nil
	}
	ascii, err := dnsname.ToASCII(text) // its case stays: the name is right, ParseRelative saw it
	if err != nil {
		return nil, err
	}
	absolute := false
	begin := len(out)
	out = append(out, 0)
	for i := 0; i < len(ascii); i++ {
		switch c := ascii[i]; {
		case c == '.':
			out[begin] = byte(len(out) - begin - 1)
			begin, absolute = len(out), i == len(ascii)-1
			out = append(out, 0)
			continue
		case c == '\\' && ascii[i+1] >= '0' && ascii[i+1] <= '9':
			octet, err := unescape(ascii[i : i+4])
			if err != nil {
				return nil, err
			}
			out = append(out, octet...)
			i += 3
		case c == '\\':
			i++
			out = append(out, ascii[i])
		default:
			out = append(out, c)
		}
	}
	if absolute {
		return out, nil
	}
	out[begin] = byte(len(out) - begin - 1)
	return origin.AppendWire(out), nil
}

// name takes an uncompressed name and returns its text.
func (o *octets) name(lower bool) (string, error) {
	var b []byte
	for size := 1; ; {
		n, err := o.number(1)
		switch {
		case err != nil:
			return "", err
		case n == 0 && len(b) == 0:
			return ".", nil
		case n == 0:
			return string(b), nil
		case n > 63:
			return "", errors.New("a label is longer than 63 octets")
		}
		if size += int(n) + 1; size > 255 {
			return "", errors.New("the name is longer than 255 octets")
		}
		label, err := o.take(int(n))
		if err != nil {
			return "", err
		}
		text := string(label)
		if lower {
			text = lowerASCII(text)
		}
		b = append(dnsname.AppendLabel(b, text), '.')
	}
}

// lowerASCII lowers A to Z and no other octet (RFC 4343).
func lowerASCII(text string) string {
	b := []byte(text)
	for i, c := range b {
		if 'A' <= c && c <= 'Z' {
			b[i] = c + 'a' - 'A'
		}
	}
	return string(b)
}

// text is one character-string: at most 255 octets behind their number (RFC 1035 section 3.3).
func text(name string) part {
	return part{name, func(s *scanner, out []byte) ([]byte, error) {
		t, err := s.next()
		if err != nil {
			return nil, err
		}
		return appendString(out, t)
	}, func(o *octets, p *printer) error {
		taken, err := o.string()
		p.word(Quote(taken))
		return err
	}}
}

func appendString(out []byte, t token) ([]byte, error) {
	octets, err := t.octetsOf()
	switch {
	case err != nil:
		return nil, err
	case len(octets) > 255:
		return nil, &LongString{len(octets)}
	}
	return append(append(out, byte(len(octets))), octets...), nil
}

// LongString is the fault of a string that has more than 255 octets.
type LongString struct{ Octets int }

func (e *LongString) Error() string {
	return fmt.Sprintf(`a string has %d octets, and 255 are the most; split it into several "…" parts`, e.Octets)
}

func (o *octets) string() ([]byte, error) {
	n, err := o.number(1)
	if err != nil {
		return nil, err
	}
	return o.take(int(n))
}

// texts is one character-string or more.
var texts = part{"", func(s *scanner, out []byte) ([]byte, error) {
	if _, ok := s.peek(); !ok {
		return nil, errors.New("the text is missing")
	}
	for s.at < len(s.tokens) {
		t, err := s.next()
		if err != nil {
			return nil, err
		}
		if out, err = appendString(out, t); err != nil {
			return nil, err
		}
	}
	return out, nil
}, func(o *octets, p *printer) error {
	if len(o.data) == 0 {
		return errShort
	}
	for len(o.data) > 0 {
		taken, err := o.string()
		if err != nil {
			return err
		}
		p.word(Quote(taken))
	}
	return nil
}}

// longText is one string that goes to the end of the data and has no length of its own.
func longText(name string, least int) part {
	return part{name, func(s *scanner, out []byte) ([]byte, error) {
		t, err := s.next()
		if err != nil {
			return nil, err
		}
		octets, err := t.octetsOf()
		if err == nil && len(octets) < least {
			err = errors.New("it is empty")
		}
		return append(out, octets...), err
	}, func(o *octets, p *printer) error {
		if len(o.data) < least {
			return errShort
		}
		p.word(Quote(o.rest()))
		return nil
	}}
}

// Quote returns octets as a quoted string of a master file (RFC 1035 section 5.1).
func Quote[T string | []byte](octets T) string {
	b := make([]byte, 0, len(octets)+2)
	b = append(b, '"')
	for i := 0; i < len(octets); i++ {
		switch c := octets[i]; {
		case c == '"' || c == '\\':
			b = append(b, '\\', c)
		case c < ' ' || c > '~':
			b = fmt.Appendf(b, `\%03d`, c)
		default:
			b = append(b, c)
		}
	}
	return string(append(b, '"'))
}

// hexRest is hexadecimal digits to the end of the data, at least so many octets.
func hexRest(name string, least int, upper bool) part {
	return part{name, func(s *scanner, out []byte) ([]byte, error) {
		octets, err := readHex(s)
		if err == nil && len(octets) < least {
			err = errors.New("it is missing")
		}
		return append(out, octets...), err
	}, func(o *octets, p *printer) error {
		if len(o.data) < least {
			return errShort
		}
		p.word(hexText(o.rest(), upper))
		return nil
	}}
}

func hexText(octets []byte, upper bool) string {
	text := hex.EncodeToString(octets)
	if upper {
		return strings.ToUpper(text)
	}
	return text
}

func readHex(s *scanner) ([]byte, error) {
	digits, err := s.restWords()
	if err != nil {
		return nil, err
	}
	octets, err := hex.DecodeString(digits)
	if err != nil {
		return nil, fmt.Errorf("%s is no even number of hexadecimal digits", token{text: digits}.shown())
	}
	return octets, nil
}

// base64Rest is base64 to the end of the data (RFC 4648 section 4), at least so many octets.
func base64Rest(name string, least int) part {
	return part{name, func(s *scanner, out []byte) ([]byte, error) {
		digits, err := s.restWords()
		if err != nil {
			return nil, err
		}
		octets, err := readBase64(digits)
		if err == nil && len(octets) < least {
			err = errors.New("it is missing")
		}
		return append(out, octets...), err
	}, func(o *octets, p *printer) error {
		if len(o.data) < least {
			return errShort
		}
		if len(o.data) > 0 {
			p.word(base64.StdEncoding.EncodeToString(o.rest()))
		}
		return nil
	}}
}

func readBase64(digits string) ([]byte, error) {
	octets, err := base64.StdEncoding.Strict().DecodeString(digits)
	if err != nil {
		return nil, fmt.Errorf("%s is no base64", token{text: digits}.shown())
	}
	return octets, nil
}

// salt is hexadecimal digits behind their number, or "-" for none (RFC 5155 section 3.3).
var salt = part{"salt", func(s *scanner, out []byte) ([]byte, error) {
	w, err := s.word()
	if err != nil {
		return nil, err
	}
	if w == "-" {
		return append(out, 0), nil
	}
	octets, err := hex.DecodeString(w)
	if err != nil || len(octets) == 0 || len(octets) > 255 {
		return nil, fmt.Errorf(`%s is no salt: write 1 to 255 octets as hexadecimal digits, or "-" for none`, token{text: w}.shown())
	}
	return append(append(out, byte(len(octets))), octets...), nil
}, func(o *octets, p *printer) error {
	octets, err := o.string()
	if len(octets) == 0 {
		p.word("-")
	} else {
		p.word(hexText(octets, true))
	}
	return err
}}

// hashedName is a hash in base32 with the extended hex alphabet, without padding (RFC 5155 section 3.3).
var hashedName = part{"next hashed owner name", func(s *scanner, out []byte) ([]byte, error) {
	w, err := s.word()
	if err != nil {
		return nil, err
	}
	octets, err := base32.HexEncoding.WithPadding(base32.NoPadding).DecodeString(strings.ToUpper(w))
	if err != nil || len(octets) == 0 || len(octets) > 255 {
		return nil, fmt.Errorf("%s is no hash in base32", token{text: w}.shown())
	}
	return append(append(out, byte(len(octets))), octets...), nil
}, func(o *octets, p *printer) error {
	octets, err := o.string()
	if err == nil && len(octets) == 0 {
		return errShort
	}
	p.word(base32.HexEncoding.WithPadding(base32.NoPadding).EncodeToString(octets))
	return err
}}
