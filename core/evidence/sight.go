package evidence

import (
	"slices"
	"strings"
)

// Sighted leaves out of a sweep what this machine could not see: where every question over IPv6 failed while others went well, the
// machine has no IPv6, and its silence says nothing of anybody. A server is then taken to serve over IPv6 what it serves over IPv4.
func (s Sweep) Sighted() (seen Sweep, blind bool) {
	if !s.blindTo6() {
		return s, false
	}
	s.Parents = slices.DeleteFunc(slices.Clone(s.Parents), func(p ParentAnswer) bool { return AddressOf(p.Server).Is6() })
	s.Servers = slices.DeleteFunc(slices.Clone(s.Servers), func(a ServerAnswer) bool { return AddressOf(a.Server).Is6() })
	return s, true
}

// blindTo6 reports whether every question over IPv6 failed while others went well.
func (s Sweep) blindTo6() bool {
	tried, heard6, heard4 := false, false, false
	look := func(at Server, answer Answer) {
		if strings.HasPrefix(at.Address, "[") { // as IPv6 addresses with a port are written
			tried, heard6 = true, heard6 || answer != Silent
		} else {
			heard4 = heard4 || answer != Silent
		}
	}
	for i := range s.Parents {
		look(s.Parents[i].Server, s.Parents[i].Answer)
	}
	for i := range s.Servers {
		look(s.Servers[i].Server, s.Servers[i].Answer)
	}
	return tried && heard4 && !heard6
}
