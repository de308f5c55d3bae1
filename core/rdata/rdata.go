// Package rdata reads and prints the data of resource records: presentation form (RFC 1035 section 5.1) to wire form and back.
//
// Every type is a row of one table (types.go): its parts in order. A part reads one piece of text into octets and prints it
// from octets; parts.go has those that many types share, the other files those of single types. Types without a row have the
// generic form alone (RFC 3597 section 5). Both directions check everything: what Parse returns Print accepts, and the text
// that Print returns reads as the same octets.
package rdata

import (
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"beacon/core/dnsname"
)

// maxData is the largest size of a record's data, in octets (RFC 1035 section 3.2.1).
const maxData = 1<<16 - 1

// part is one piece of a type's data.
type part struct {
	name  string // as errors name it
	read  func(s *scanner, out []byte) ([]byte, error)
	print func(o *octets, p *printer) error
}

// form is how the data of one type are written.
type form struct {
	parts   []part
	check   func(wire []byte) error // what no single part can see; nil where there is nothing
	generic bool                    // printed in the generic form, since few servers read any other
}

// Known reports whether type t has a form of its own.
func Known(t uint16) bool {
	_, ok := types[t]
	return ok
}

// Parse returns the wire form, without compression, of data of type t that text has in presentation form, on one line. Relative
// names are completed with origin. Errors name the part that is wrong.
func Parse(t uint16, text string, origin dnsname.Name) ([]byte, error) {
	s, err := scan(text, origin)
	if err != nil {
		return nil, err
	}
	if first, ok := s.peek(); ok && first.text == `\#` && !first.quoted {
		wire, err := readGeneric(s)
		if err != nil {
			return nil, err
		}
		_, err = Print(t, wire)
		return wire, err
	}
	f, ok := types[t]
	if !ok {
		return nil, fmt.Errorf(`%s has no form of its own here; write the octets, such as \# 2 abcd (RFC 3597)`, TypeName(t))
	}
	var wire []byte
	for _, p := range f.parts {
		if wire, err = p.read(s, wire); err != nil {
			return nil, named(p, err)
		}
	}
	if extra, ok := s.peek(); ok {
		return nil, fmt.Errorf("%s is too much: the data end before it", extra.shown())
	}
	return wire, f.validate(wire)
}

func (f form) validate(wire []byte) error {
	if len(wire) > maxData {
		return fmt.Errorf("the data have %d octets; %d are the most", len(wire), maxData)
	}
	if f.check != nil {
		return f.check(wire)
	}
	return nil
}

func named(p part, err error) error {
	if p.name == "" {
		return err
	}
	return fmt.Errorf("%s: %w", p.name, err)
}

// Print returns data in wire form as text: names absolute, each type in one form only, so that equal data are equal text. Names
// are in lower case where DNSSEC has them so (RFC 4034 section 6.2, RFC 6840 section 5.1). It returns an error if the octets are
// no data of type t.
func Print(t uint16, wire []byte) (string, error) {
	f, ok := types[t]
	if !ok {
		return Generic(wire), nil
	}
	o, p := &octets{data: wire}, &printer{}
	for _, part := range f.parts {
		if err := part.print(o, p); err != nil {
			return "", named(part, err)
		}
	}
	if len(o.data) > 0 {
		return "", fmt.Errorf("%d octets are too much at the end of the data", len(o.data))
	}
	if err := f.validate(wire); err != nil {
		return "", err
	}
	if f.generic || p.Len() == 0 {
		return Generic(wire), nil
	}
	return p.String(), nil
}

// Generic returns data in the form that every type has (RFC 3597 section 5).
func Generic(wire []byte) string {
	if len(wire) == 0 {
		return `\# 0`
	}
	return `\# ` + strconv.Itoa(len(wire)) + " " + hex.EncodeToString(wire)
}

// readGeneric reads \# LENGTH HEX.
func readGeneric(s *scanner) ([]byte, error) {
	s.at++
	size, err := s.number("length", maxData)
	if err != nil {
		return nil, err
	}
	wire, err := readHex(s)
	switch {
	case err != nil:
		return nil, err
	case uint64(len(wire)) != size:
		return nil, fmt.Errorf("the length is %d, but %d octets follow", size, len(wire))
	}
	return wire, nil
}

// octets is what is left of wire data that is being read.
type octets struct{ data []byte }

var errShort = errors.New("the data end too early")

func (o *octets) take(n int) ([]byte, error) {
	if n > len(o.data) {
		return nil, errShort
	}
	taken := o.data[:n]
	o.data = o.data[n:]
	return taken, nil
}

// rest takes everything that is left.
func (o *octets) rest() []byte {
	taken := o.data
	o.data = nil
	return taken
}

// number takes an unsigned integer of size octets.
func (o *octets) number(size int) (n uint64, err error) {
	taken, err := o.take(size)
	for _, b := range taken {
		n = n<<8 | uint64(b)
	}
	return n, err
}

// printer puts words together with one blank between them.
type printer struct{ strings.Builder }

func (p *printer) word(text string) {
	if p.Len() > 0 {
		p.WriteByte(' ')
	}
	p.WriteString(text)
}

func (p *printer) number(n uint64) { p.word(strconv.FormatUint(n, 10)) }
