package delegate

import (
	"slices"

	"beacon/core/dnsname"
	"beacon/core/handover"
	"beacon/wire"
)

// forms are what registrars' forms object to.
var forms = []string{
	"The form refuses a name with a final dot: enter it without.",
	"The form has too few rows: look for “add another nameserver”; some save only what is in the first rows.",
	"The form asks for IP addresses too: they are needed only for nameservers within the domain itself.",
	"“Save” may only store the list: look for “use these”, “activate” or “set as default” behind it.",
}

// byHand returns what a person enters at the registrar, and how far that got.
func byHand(m move, parents []dnsname.Name) *wire.ByHand {
	h := &wire.ByHand{Names: []string{}, WithDot: []string{}, Forms: forms, Begun: m.begun}
	for _, n := range m.target {
		h.Names = append(h.Names, dnsname.Short(n))
		h.WithDot = append(h.WithDot, n.String())
	}
	var before [][]dnsname.Name
	for _, set := range m.earlier { // one that was entered in part is none of those before
		if !slices.ContainsFunc(set, func(n dnsname.Name) bool { return slices.Contains(m.target, n) }) {
			before = append(before, set)
		}
	}
	h.Entered = handover.ByHand(m.target, parents, before, m.begun)
	return h
}
