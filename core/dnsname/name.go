// Package dnsname knows domain names and nothing else about DNS.
//
// A Name is a small comparable value. It is valid and canonical by construction: lower case, absolute, A-labels.
// Text is parsed at the edge (Parse, ParseRelative) and printed at the edge (String, Unicode, Relative); in between,
// names are compared and sorted in the canonical order of RFC 4034 section 6.1 by plain string comparison.
package dnsname

import (
	"cmp"
	"fmt"
	"strings"

	"golang.org/x/net/idna"
)

// Name is an absolute domain name. The zero value is no name at all (IsZero); the root is Root.
//
// Inside, the labels are kept from the root downwards, each ended by a zero octet, so that byte order is canonical
// order and "is below" is a prefix test. Octets 0 and 1 within labels are escaped as 1,1 and 1,2.
type Name struct{ key string }

// Root is the name with no labels, written ".".
var Root = Name{"\x00"}

// IsZero reports whether n is the zero value, which stands for "no name".
func (n Name) IsZero() bool { return n.key == "" }

// IsRoot reports whether n is the root of the tree.
func (n Name) IsRoot() bool { return n.key == Root.key }

// Compare orders names canonically (RFC 4034 section 6.1): parents before children, siblings by octets.
func (n Name) Compare(m Name) int { return cmp.Compare(n.key, m.key) }

// Key is the name as octets whose byte order is canonical order; FromKey is its inverse.
// It serves storage and sorting; people are shown String.
func (n Name) Key() string { return n.key }

// FromKey returns the name whose Key is key. The key must come from Key.
func FromKey(key string) Name { return Name{key} }

// IsBelow reports whether n lies strictly below m in the tree.
func (n Name) IsBelow(m Name) bool {
	return len(n.key) > len(m.key) && strings.HasPrefix(n.key, m.key) && m.key != ""
}

// IsAtOrBelow reports whether n is m or lies below it.
func (n Name) IsAtOrBelow(m Name) bool { return n == m || n.IsBelow(m) }

// Parent returns the name one label shorter. The parent of the root, and of the zero Name, is the zero Name.
func (n Name) Parent() Name {
	if len(n.key) <= 1 {
		return Name{}
	}
	cut := strings.LastIndexByte(n.key[:len(n.key)-1], 0)
	return Name{n.key[:cut+1]}
}

// Child returns the name with one more label in front. The label is taken as presentation text without dots.
func (n Name) Child(label string) (Name, error) {
	return ParseRelative(strings.ReplaceAll(label, ".", `\.`), n)
}

// NumLabels counts the labels; the root has none.
func (n Name) NumLabels() int {
	if n.key == "" {
		return 0
	}
	return strings.Count(n.key, "\x00") - 1
}

// Labels returns the raw labels from the leftmost to the one below the root.
func (n Name) Labels() []string {
	if len(n.key) <= 1 {
		return nil
	}
	parts := strings.Split(n.key[1:len(n.key)-1], "\x00")
	for i, j := 0, len(parts)-1; i < j; i, j = i+1, j-1 {
		parts[i], parts[j] = parts[j], parts[i]
	}
	for i := range parts {
		parts[i] = unescapeKey(parts[i])
	}
	return parts
}

// IsWildcard reports whether the leftmost label is "*" (RFC 4592).
func (n Name) IsWildcard() bool { return strings.HasSuffix(n.key, "\x00*\x00") }

// String prints the absolute name with its final dot, escaped as in master files (RFC 1035 section 5.1).
// The zero Name prints as "".
func (n Name) String() string {
	switch {
	case n.key == "":
		return ""
	case n.IsRoot():
		return "."
	}
	return joinReversed(n.key[1:])
}

// joinReversed prints key (labels from the root, each ended by a zero octet) from the leftmost label on.
func joinReversed(key string) string {
	b := make([]byte, 0, len(key)+4)
	for end := len(key) - 1; end >= 0; {
		start := strings.LastIndexByte(key[:end], 0) + 1
		b = appendLabel(b, key[start:end])
		b = append(b, '.')
		end = start - 1
	}
	return string(b)
}

// Relative prints n relative to origin: "@" for the origin itself, no final dot below it, the absolute name elsewhere.
func (n Name) Relative(origin Name) string {
	if n == origin {
		return "@"
	}
	if !n.IsBelow(origin) {
		return n.String()
	}
	text := joinReversed(n.key[len(origin.key):])
	return text[:len(text)-1]
}

// Unicode prints the name without final dot and with A-labels shown as U-labels (RFC 5891), for people to read.
// A label that is no valid A-label is shown as it is.
func (n Name) Unicode() string {
	if n.key == "" || n.IsRoot() {
		return n.String()
	}
	text := strings.TrimSuffix(n.String(), ".")
	if !strings.Contains(text, "xn--") {
		return text
	}
	if shown, err := idna.Punycode.ToUnicode(text); err == nil {
		return shown
	}
	return text
}

// MarshalText prints the name as String does.
func (n Name) MarshalText() ([]byte, error) { return []byte(n.String()), nil }

// UnmarshalText reads an absolute name, with or without its final dot; empty text gives the zero Name.
func (n *Name) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*n = Name{}
		return nil
	}
	name, err := Parse(string(text))
	if err != nil {
		return err
	}
	*n = name
	return nil
}

func appendLabel(b []byte, label string) []byte {
	for i := 0; i < len(label); i++ {
		c := label[i]
		if c == 1 && i+1 < len(label) {
			i++
			c = label[i] - 1
		}
		switch {
		case strings.IndexByte(`.\"();@$`, c) >= 0:
			b = append(b, '\\', c)
		case c <= ' ' || c > '~':
			b = fmt.Appendf(b, `\%03d`, c)
		default:
			b = append(b, c)
		}
	}
	return b
}

func unescapeKey(label string) string {
	if strings.IndexByte(label, 1) < 0 {
		return label
	}
	return strings.NewReplacer("\x01\x01", "\x00", "\x01\x02", "\x01").Replace(label)
}

// AppendWire appends the name in wire form, without compression (RFC 1035 section 3.1). The zero Name appends nothing.
func (n Name) AppendWire(b []byte) []byte {
	if n.IsZero() {
		return b
	}
	for _, label := range n.Labels() {
		b = append(append(b, byte(len(label))), label...)
	}
	return append(b, 0)
}

// AppendLabel appends one label, given as raw octets, escaped as in master files (RFC 1035 section 5.1).
func AppendLabel(b []byte, label string) []byte {
	if strings.IndexByte(label, 1) < 0 && strings.IndexByte(label, 0) < 0 {
		return appendLabel(b, label)
	}
	return appendLabel(b, strings.NewReplacer("\x00", "\x01\x01", "\x01", "\x01\x02").Replace(label))
}
