package rdata

import (
	"errors"
	"fmt"
	"strings"
)

// The equator and the prime meridian, in thousandths of a second of arc, and the base of altitudes in centimetres (RFC 1876 section 2).
const (
	locZero      = 1 << 31
	locSeaLevel  = 10_000_000
	locPerDegree = 3_600_000
	locPerMinute = 60_000
)

// location is the data of LOC: d1 [m1 [s1]] N|S d2 [m2 [s2]] E|W alt[m] [size[m] [hp[m] [vp[m]]]] (RFC 1876 section 3).
var location = part{"", func(s *scanner, out []byte) ([]byte, error) {
	latitude, err := readAngle(s, "latitude", 90, "N", "S")
	if err != nil {
		return nil, err
	}
	longitude, err := readAngle(s, "longitude", 180, "E", "W")
	if err != nil {
		return nil, err
	}
	altitude, err := readMetres(s, "altitude", -10_000_000, 4_284_967_295)
	if err != nil {
		return nil, err
	}
	out = append(out, 0) // version
	precision := [...]struct {
		name  string
		usual int64
	}{{"size", 100}, {"horizontal precision", 1_000_000}, {"vertical precision", 1_000}}
	for _, p := range precision {
		cm := p.usual
		if _, more := s.peek(); more {
			if cm, err = readMetres(s, p.name, 0, 9_000_000_000); err != nil {
				return nil, err
			}
		}
		out = append(out, precisionOctet(cm))
	}
	for _, n := range []int64{latitude, longitude, altitude + locSeaLevel} {
		out = appendNumber(out, uint64(n), 4)
	}
	return out, nil
}, printLocation}

func readAngle(s *scanner, name string, most int64, plus, minus string) (int64, error) {
	fail := func(err error) (int64, error) { return 0, fmt.Errorf("%s: %w", name, err) }
	total := int64(0)
	for i, unit := range []struct {
		name    string
		scale   int64
		most    int64
		decimal int
	}{{"degrees", locPerDegree, most, 0}, {"minutes", locPerMinute, 59, 0}, {"seconds", 1, 59_999, 3}, {}} {
		w, err := s.word()
		if err != nil {
			return fail(err)
		}
		if i > 0 && (strings.EqualFold(w, plus) || strings.EqualFold(w, minus)) {
			if total > most*locPerDegree {
				return fail(fmt.Errorf("it is more than %d degrees", most))
			}
			if strings.EqualFold(w, minus) {
				total = -total
			}
			return locZero + total, nil
		}
		if unit.name == "" || i > 0 && strings.Trim(w, ".0123456789") != "" {
			return fail(fmt.Errorf("%q is neither %s nor %s", w, plus, minus))
		}
		n, err := fixed(w, unit.decimal)
		if err == nil && (n < 0 || n > unit.most) {
			err = fmt.Errorf("%s is out of range", w)
		}
		if err != nil {
			return fail(fmt.Errorf("%s: %w", unit.name, err))
		}
		total += n * unit.scale
	}
	return total, nil
}

// readMetres returns centimetres.
func readMetres(s *scanner, name string, least, most int64) (int64, error) {
	w, err := s.word()
	if err != nil {
		return 0, fmt.Errorf("%s: %w", name, err)
	}
	n, err := fixed(strings.TrimSuffix(strings.TrimSuffix(w, "m"), "M"), 2)
	if err == nil && (n < least || n > most) {
		err = fmt.Errorf("%s is out of range", w)
	}
	if err != nil {
		return 0, fmt.Errorf("%s: %w", name, err)
	}
	return n, nil
}

// fixed reads a decimal number with at most so many places behind the point, in units of the last one.
func fixed(text string, places int) (int64, error) {
	digits, negative := strings.CutPrefix(text, "-")
	whole, behind, point := strings.Cut(digits, ".")
	n, err := decimal(whole, 1<<40)
	if err != nil || len(behind) > places || point && strings.Trim(behind, "0123456789") != "" {
		return 0, fmt.Errorf("%q is no number with up to %d decimal places", text, places)
	}
	value := int64(n)
	for i := range places {
		value *= 10
		if i < len(behind) {
			value += int64(behind[i] - '0')
		}
	}
	if negative {
		value = -value
	}
	return value, nil
}

// precisionOctet is a number of centimetres as one digit and a power of ten; what does not fit is rounded down.
func precisionOctet(cm int64) byte {
	exponent := byte(0)
	for cm >= 10 && exponent < 9 {
		cm /= 10
		exponent++
	}
	return byte(cm)<<4 | exponent
}

func printLocation(o *octets, p *printer) error {
	wire, err := o.take(16)
	if err != nil {
		return err
	}
	if wire[0] != 0 {
		return fmt.Errorf("version %d of the form is not known", wire[0])
	}
	numbers := &octets{wire[4:]}
	var n [3]int64
	for i := range n {
		u, _ := numbers.number(4) // 12 octets are there
		n[i] = int64(u)
	}
	if err := printAngle(p, n[0]-locZero, 90, "N", "S"); err != nil {
		return err
	}
	if err := printAngle(p, n[1]-locZero, 180, "E", "W"); err != nil {
		return err
	}
	p.word(metres(n[2] - locSeaLevel))
	for _, b := range wire[1:4] {
		if b>>4 > 9 || b&15 > 9 {
			return errors.New("a precision is no digit and power of ten")
		}
		cm := int64(b >> 4)
		for range b & 15 {
			cm *= 10
		}
		p.word(metres(cm))
	}
	return nil
}

func printAngle(p *printer, n, most int64, plus, minus string) error {
	side := plus
	if n < 0 {
		side, n = minus, -n
	}
	if n > most*locPerDegree {
		return fmt.Errorf("an angle is more than %d degrees", most)
	}
	p.word(fmt.Sprintf("%02d %02d %d.%03d %s", n/locPerDegree, n%locPerDegree/locPerMinute, n%locPerMinute/1000, n%1000, side))
	return nil
}

func metres(cm int64) string {
	sign := ""
	if cm < 0 {
		sign, cm = "-", -cm
	}
	if cm%100 == 0 {
		return fmt.Sprintf("%s%dm", sign, cm/100)
	}
	return fmt.Sprintf("%s%d.%02dm", sign, cm/100, cm%100)
}
