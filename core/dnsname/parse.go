package dnsname

import (
	"fmt"
	"slices"
	"strings"

	"golang.org/x/net/idna"
)

// Limits of RFC 1035 section 2.3.4, in octets on the wire.
const (
	maxLabel = 63
	maxName  = 255
)

// ParseError returns why a text is no domain name.
type ParseError struct {
	Text   string // what was given
	Reason string // what is wrong with it
}

func (e *ParseError) Error() string {
	return fmt.Sprintf("%q is not a domain name: %s", e.Text, e.Reason)
}

// Parse reads an absolute name; the final dot may be left out. U-labels are turned into A-labels.
func Parse(text string) (Name, error) { return ParseRelative(text, Root) }

// MustParse is Parse for names known to be right, such as constants; it panics on an error.
func MustParse(text string) Name {
	n, err := Parse(text)
	if err != nil {
		panic(err)
	}
	return n
}

// ParseSet reads several absolute names, and gives them sorted and without repetition, as nameserver sets are kept.
func ParseSet(texts []string) ([]Name, error) {
	var names []Name
	for _, text := range texts {
		name, err := Parse(text)
		if err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	return SortSet(names), nil
}

// SortSet returns a sorted copy of names without repetition.
func SortSet(names []Name) []Name {
	return SortInPlace(slices.Clone(names))
}

// SortInPlace is SortSet for a list that nobody else has.
func SortInPlace(names []Name) []Name {
	slices.SortFunc(names, Name.Compare)
	return slices.Compact(names)
}

// ParseRelative reads a name as master files write it: "@" is the origin, a name without final dot stands below the
// origin, a name with final dot is absolute.
func ParseRelative(text string, origin Name) (Name, error) {
	fail := func(reason string) (Name, error) { return Name{}, &ParseError{text, reason} }
	switch {
	case text == "":
		return fail("it is empty")
	case text == "@":
		return origin, nil
	case text == ".":
		return Root, nil
	case origin.IsZero():
		return fail("there is no origin to complete it")
	}
	ascii, err := ToASCII(text)
	if err != nil {
		return fail(err.Error())
	}
	absolute := false
	// Labels are collected left to right, and put in front of what came before: from the root downwards.
	var starts [maxName/2 + 2]int
	count := 0
	buf := make([]byte, 0, len(ascii)+8)
	starts[0] = 0
	size := 0 // octets of the label as it is on the wire
	wire := 0
	for i := 0; i < len(ascii); i++ {
		c := ascii[i]
		if c == '.' {
			if size == 0 {
				return fail("it has an empty label (two dots in a row, or a dot in front)")
			}
			if count++; count >= len(starts) {
				return fail("it is longer than 255 octets")
			}
			wire += size + 1
			size = 0
			starts[count] = len(buf)
			absolute = i == len(ascii)-1
			continue
		}
		if c == '\\' {
			var reason string
			c, i, reason = unescape(ascii, i)
			if reason != "" {
				return fail(reason)
			}
		} else if c <= ' ' || c == 127 {
			return fail("it contains a blank or a control character")
		}
		if 'A' <= c && c <= 'Z' {
			c += 'a' - 'A'
		}
		if size++; size > maxLabel {
			return fail("a label is longer than 63 octets")
		}
		if c <= 1 {
			buf = append(buf, 1)
			c++
		}
		buf = append(buf, c)
	}
	if size > 0 {
		if count++; count >= len(starts) {
			return fail("it is longer than 255 octets")
		}
		wire += size + 1
		starts[count] = len(buf)
	}
	if absolute {
		origin = Root
	}
	key := make([]byte, 0, len(origin.key)+len(buf)+count)
	key = append(key, origin.key...)
	for i := count - 1; i >= 0; i-- {
		key = append(key, buf[starts[i]:starts[i+1]]...)
		key = append(key, 0)
	}
	name := Name{string(key)}
	if wire+wireLen(origin) > maxName {
		return fail("it is longer than 255 octets")
	}
	return name, nil
}

// wireLen is the length of the name on the wire, the final zero octet included.
func wireLen(n Name) int {
	if strings.IndexByte(n.key, 1) < 0 {
		return len(n.key)
	}
	return len(n.key) - strings.Count(n.key, "\x01\x01") - strings.Count(n.key, "\x01\x02")
}

// unescape reads the escape at text[i] (RFC 1035 section 5.1): \DDD or \X. It gives the octet and the index of the
// escape's last character.
func unescape(text string, i int) (c byte, last int, reason string) {
	if i+1 >= len(text) {
		return 0, i, "it ends in a backslash"
	}
	if c := text[i+1]; c < '0' || c > '9' {
		return c, i + 1, ""
	}
	if i+3 >= len(text) {
		return 0, i, `an escape \DDD needs three digits`
	}
	value := 0
	for _, d := range []byte(text[i+1 : i+4]) {
		if d < '0' || d > '9' {
			return 0, i, `an escape \DDD needs three digits`
		}
		value = value*10 + int(d-'0')
	}
	if value > 255 {
		return 0, i, `an escape \DDD is at most \255`
	}
	return byte(value), i + 3, ""
}

// profile maps what people type (RFC 5891, with the mapping of UTS 46) without refusing "_" and "*".
var profile = idna.New(idna.MapForLookup(), idna.StrictDomainName(false), idna.Transitional(false), idna.BidiRule())

// ToASCII returns a name with U-labels as A-labels (RFC 5891); nothing else about it is looked at.
func ToASCII(text string) (string, error) {
	for i := 0; i < len(text); i++ {
		if text[i] >= 0x80 {
			ascii, err := profile.ToASCII(text)
			if err != nil {
				return "", fmt.Errorf("it has characters that no internationalised name may have")
			}
			return ascii, nil
		}
	}
	return text, nil
}
