package access

import (
	"fmt"
	"slices"
	"strings"

	"beacon/core/dnsname"
)

// Zones matches zones: one zone, or all below a name, written with a leading "*.".
type Zones struct {
	Name  dnsname.Name
	Below bool // all strictly below Name, and not Name itself
}

// ParseZones reads a zone, or a name with a leading "*." for the zones below it.
func ParseZones(text string) (z Zones, err error) {
	rest, below := strings.CutPrefix(text, "*.")
	z.Below = below
	if z.Name, err = dnsname.Parse(rest); err == nil && z.Name.IsRoot() {
		err = fmt.Errorf("%q would be every zone; leave zones out for that", text)
	}
	return z, err
}

// Match reports whether a zone is one of them.
func (z Zones) Match(zone dnsname.Name) bool {
	if z.Below {
		return zone.IsBelow(z.Name)
	}
	return zone == z.Name
}

// covers reports whether z matches all that other matches.
func (z Zones) covers(other Zones) bool {
	switch {
	case z == other:
		return true
	case !z.Below:
		return false
	case other.Below:
		return other.Name.IsAtOrBelow(z.Name)
	}
	return z.Match(other.Name)
}

func (z Zones) String() string {
	if z.Below {
		return "*." + text(z.Name)
	}
	return text(z.Name)
}

// text returns a name without its final dot, as users read it where it is read back so.
func text(n dnsname.Name) string {
	for _, text := range []string{n.Unicode(), n.String()} {
		again, err := dnsname.Parse(text)
		if err == nil && again == n && !strings.ContainsAny(text, ", \t\u0085\u00a0") {
			return strings.TrimSuffix(text, ".")
		}
	}
	return strings.NewReplacer(",", `\044`).Replace(strings.TrimSuffix(n.String(), "."))
}

// MarshalText writes the pattern as ParseZones reads it.
func (z Zones) MarshalText() ([]byte, error) { return []byte(z.String()), nil }

// UnmarshalText reads the pattern.
func (z *Zones) UnmarshalText(text []byte) (err error) {
	*z, err = ParseZones(string(text))
	return err
}

// Names matches owner names, relative to their zone: "@", "www", or with one label "*", which is one label or more: "*.lab", "_acme-challenge.*".
type Names struct {
	name dnsname.Name // as if the zone were the root
	star int          // which of its labels is "*"; -1 for none
}

// ParseNames reads a pattern of owner names.
func ParseNames(text string) (n Names, err error) {
	n.name, n.star = dnsname.Root, -1
	if text == "@" {
		return n, nil
	}
	if strings.HasSuffix(text, ".") {
		return n, fmt.Errorf("%q ends with a dot; names are relative to their zone, such as www", text)
	}
	if n.name, err = dnsname.Parse(text); err != nil {
		return n, err
	}
	for i, label := range n.name.Labels() {
		switch {
		case label == "*" && n.star >= 0:
			return n, fmt.Errorf(`%q has "*" twice; once is possible`, text)
		case label == "*":
			n.star = i
		}
	}
	return n, nil
}

// Match reports whether a name in a zone is one of them.
func (n Names) Match(name, zone dnsname.Name) bool {
	if !name.IsAtOrBelow(zone) {
		return false
	}
	have := name.Labels()
	return n.matches(have[:len(have)-len(zone.Labels())])
}

// matches reports whether the labels of an owner name, leftmost first, are matched.
func (n Names) matches(have []string) bool {
	want := n.name.Labels()
	if n.star < 0 {
		return slices.Equal(have, want)
	}
	before, behind := want[:n.star], want[n.star+1:]
	return len(have) >= len(want) && slices.Equal(have[:len(before)], before) && slices.Equal(have[len(have)-len(behind):], behind)
}

// covers reports whether n matches all that other matches. A "*" of other is matched as a label of its own: what n says of it holds for any labels there.
func (n Names) covers(other Names) bool {
	if other.star < 0 || n.star < 0 {
		return n.star >= 0 && n.matches(other.name.Labels()) || slices.Equal(n.name.Labels(), other.name.Labels()) && n.star == other.star
	}
	want, have := n.name.Labels(), other.name.Labels()
	before, behind := want[:n.star], want[n.star+1:]
	return n.star <= other.star && len(behind) <= len(have)-1-other.star &&
		slices.Equal(have[:len(before)], before) && slices.Equal(have[len(have)-len(behind):], behind)
}

func (n Names) String() string {
	if n.name.IsRoot() {
		return "@"
	}
	return text(n.name)
}

// MarshalText writes the pattern as ParseNames reads it.
func (n Names) MarshalText() ([]byte, error) { return []byte(n.String()), nil }

// UnmarshalText reads the pattern.
func (n *Names) UnmarshalText(text []byte) (err error) {
	*n, err = ParseNames(string(text))
	return err
}
