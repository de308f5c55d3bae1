package rdata

import (
	"errors"
	"fmt"
	"math/bits"
)

// readTypes reads the types to the end of the data into a set of their numbers.
func readTypes(s *scanner) (set map[uint16]bool, highest uint16, err error) {
	set = map[uint16]bool{}
	for s.at < len(s.tokens) {
		w, err := s.word()
		if err != nil {
			return nil, 0, err
		}
		t, ok := TypeNumber(w)
		if !ok || t == 0 {
			return nil, 0, fmt.Errorf("%q is no record type", w)
		}
		set[t] = true
		highest = max(highest, t)
	}
	return set, highest, nil
}

// bitmap is a list of types in windows of 256 (RFC 4034 section 4.1.2). It may be empty.
var bitmap = part{"types", func(s *scanner, out []byte) ([]byte, error) {
	set, _, err := readTypes(s)
	if err != nil {
		return nil, err
	}
	var windows [256][]byte
	for t := range set {
		high, low := t>>8, t&0xff
		for len(windows[high]) <= int(low>>3) {
			windows[high] = append(windows[high], 0)
		}
		windows[high][low>>3] |= 0x80 >> (low & 7)
	}
	for i, w := range windows {
		if len(w) > 0 {
			out = append(append(out, byte(i), byte(len(w))), w...)
		}
	}
	return out, nil
}, func(o *octets, p *printer) error {
	for last := -1; len(o.data) > 0; {
		head, err := o.take(2)
		if err != nil {
			return err
		}
		window, size := int(head[0]), int(head[1])
		if window <= last || size == 0 || size > 32 {
			return errors.New("a window is out of order, or of a wrong size")
		}
		octets, err := o.take(size)
		if err != nil {
			return err
		}
		if octets[size-1] == 0 {
			return errors.New("a window ends in an octet without any type")
		}
		if err := printBits(octets, window<<8, p); err != nil {
			return err
		}
		last = window
	}
	return nil
}}

func printBits(octets []byte, first int, p *printer) error {
	for i, b := range octets {
		for b != 0 {
			bit := bits.LeadingZeros8(b)
			b &^= 0x80 >> bit
			t := first + i*8 + bit
			if t == 0 {
				return errors.New("type 0 is listed, which is none")
			}
			p.word(TypeName(uint16(t)))
		}
	}
	return nil
}

// oldBitmap is the list of types of NXT: one window of types below 128 (RFC 2535 section 5.2).
var oldBitmap = part{"types", func(s *scanner, out []byte) ([]byte, error) {
	set, highest, err := readTypes(s)
	if err != nil {
		return nil, err
	}
	if highest > 127 {
		return nil, fmt.Errorf("%s cannot be in the list, which ends at type 127", TypeName(highest))
	}
	if len(set) == 0 {
		return out, nil
	}
	octets := make([]byte, highest/8+1)
	for t := range set {
		octets[t>>3] |= 0x80 >> (t & 7)
	}
	return append(out, octets...), nil
}, func(o *octets, p *printer) error {
	if n := len(o.data); n > 16 || n > 0 && o.data[n-1] == 0 {
		return errors.New("the list of types is too long, or ends in an octet without any")
	}
	return printBits(o.rest(), 0, p)
}}
