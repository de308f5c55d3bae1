package dynaddr

import (
	"fmt"
	"maps"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"
)

// Parameters are the names that a client has for what it reports, beside our own, where it is a router that fixes them.
type Parameters struct {
	V4     string   `json:"v4,omitempty"`
	V6     string   `json:"v6,omitempty"`     // where it is the same as V4, the address says of which family it is
	Prefix string   `json:"prefix,omitempty"` // of a delegated IPv6 prefix
	Ignore []string `json:"ignore,omitempty"` // what the client sends beside that, and says nothing
}

// The names of our own. A report of a family that has no address any more has none in place of the address.
const (
	hostParameter   = "host"
	v4Parameter     = "v4"
	v6Parameter     = "v6"
	prefixParameter = "prefix"
	noAddress       = "none"
)

// known are the parameters of a report, for messages.
const known = "host, v4, v6 and prefix"

var parameterName = regexp.MustCompile(`^[A-Za-z0-9_.-]{1,40}$`)

// Check returns an error where parameters cannot be told apart.
func (p Parameters) Check() error {
	names := slices.DeleteFunc([]string{p.V4, p.V6, p.Prefix}, func(n string) bool { return n == "" })
	for _, n := range slices.Concat(names, p.Ignore) {
		if !parameterName.MatchString(n) {
			return fmt.Errorf("%.60q is no name of a parameter: letters, digits, hyphens, dots and underscores, at most 40", n)
		}
	}
	for _, n := range slices.Concat(names, p.Ignore) {
		if slices.Contains([]string{hostParameter, v4Parameter, v6Parameter, prefixParameter}, n) {
			return fmt.Errorf("%s is a parameter of every report", n)
		}
	}
	for _, n := range names {
		if slices.Contains(p.Ignore, n) {
			return fmt.Errorf("%s is both read and ignored", n)
		}
	}
	switch {
	case len(p.Ignore) > 20:
		return fmt.Errorf("%d parameters are ignored; at most 20", len(p.Ignore))
	case p.Prefix != "" && (p.Prefix == p.V4 || p.Prefix == p.V6):
		return fmt.Errorf("%s is both an address and a prefix", p.Prefix)
	}
	return nil
}

// Said is what the parameters of a report say.
type Said struct {
	Host     string
	V4, V6   string   // both empty for the address that the report came from, unless anything else is said
	Prefixes []string // the preferred one first
	Gone     Families // these families have no address any more
}

// Read returns what parameters say. One that is not known is an error: the address that was meant may be in it, and the sender's own would be published instead.
func (p Parameters) Read(given url.Values) (s Said, err error) {
	for _, name := range slices.Sorted(maps.Keys(given)) {
		ours := p.ours(name, given.Get(name))
		switch {
		case ours == "":
			return s, fmt.Errorf("%.60q is no parameter of a report; it knows %s", name, p.names())
		case ours == noAddress:
			continue
		case len(given[name]) > 1 && ours != prefixParameter:
			return s, fmt.Errorf("%s is given more than once", name)
		}
		for _, value := range given[name] {
			if err := s.say(ours, strings.TrimSpace(value)); err != nil {
				return s, err
			}
		}
	}
	return s, nil
}

// ours returns which of our parameters one is; empty for none of them, and noAddress for one that says nothing.
func (p Parameters) ours(name, value string) string {
	switch {
	case name == hostParameter, name == v4Parameter, name == v6Parameter, name == prefixParameter:
		return name
	case slices.Contains(p.Ignore, name):
		return noAddress
	case name == p.Prefix:
		return prefixParameter
	case name == p.V4 && name == p.V6:
		if strings.Contains(value, ":") {
			return v6Parameter
		}
		return v4Parameter
	case name == p.V4:
		return v4Parameter
	case name == p.V6:
		return v6Parameter
	}
	return ""
}

// names lists what a report may have.
func (p Parameters) names() string {
	own := slices.DeleteFunc([]string{p.V4, p.V6, p.Prefix}, func(n string) bool { return n == "" })
	slices.Sort(own)
	if own = slices.Compact(own); len(own) > 0 {
		return known + ", and here also " + strings.Join(own, ", ")
	}
	return known
}

func (s *Said) say(parameter, value string) error {
	into := map[string]*string{hostParameter: &s.Host, v4Parameter: &s.V4, v6Parameter: &s.V6}[parameter]
	switch {
	case value == "":
	case parameter == v4Parameter && value == noAddress:
		s.Gone.V4 = true
	case parameter == v6Parameter && value == noAddress, parameter == prefixParameter && value == noAddress:
		s.Gone.V6 = true
	case parameter == prefixParameter:
		for one := range strings.SplitSeq(value, ",") {
			s.Prefixes = append(s.Prefixes, strings.TrimSpace(one))
		}
	case *into != "":
		return fmt.Errorf("%s is given more than once", parameter)
	default:
		*into = value
	}
	return nil
}

// Report returns what is reported: the addresses and prefixes, or the address that the report came from where nothing else is said.
func (s Said) Report(peer netip.Addr) (r Report, err error) {
	r.Gone, r.Peer = s.Gone, peer
	for _, text := range s.Prefixes {
		prefix, err := netip.ParsePrefix(text)
		if err != nil {
			return r, fmt.Errorf("prefix: %.80q is no IPv6 prefix, as in 2001:db8:1::/56", text)
		}
		r.Prefixes = append(r.Prefixes, prefix.Masked())
	}
	if s.V4 == "" && s.V6 == "" && (len(s.Prefixes) > 0 || s.Gone != Families{}) {
		return r, nil
	}
	r.Addresses, err = Read(s.V4, s.V6, peer)
	return r, err
}
