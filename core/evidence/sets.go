package evidence

import (
	"net/netip"
	"slices"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// ServersOf returns the answers of the servers that belong to a set. They are not the caller's to change.
func ServersOf(s Sweep, set []dnsname.Name) []ServerAnswer {
	return Those(s.Servers, func(a *ServerAnswer) bool { return slices.Contains(set, a.Name) })
}

// Those returns the answers of which something is true; all of them without a copy, for that is the rule, and sweeps are many.
func Those(list []ServerAnswer, is func(*ServerAnswer) bool) []ServerAnswer {
	n := 0
	for i := range list {
		if is(&list[i]) {
			n++
		}
	}
	if n == len(list) {
		return slices.Clip(list)
	}
	out := make([]ServerAnswer, 0, n)
	for i := range list {
		if is(&list[i]) {
			out = append(out, list[i])
		}
	}
	return out
}

// SameAnswer reports whether nobody who asks for the set would notice a difference: absent is absent, whether the name exists or not.
func SameAnswer(a, b Observed) bool {
	return a.Answer == b.Answer && slices.Equal(a.Data, b.Data) || a.Absent() && b.Absent()
}

func (o Observed) Absent() bool { return o.Answer == NoData || o.Answer == NoName }

func (s Server) String() string { return dnsname.Short(s.Name) + " (" + s.Address + ")" }

func AddressOf(s Server) netip.Addr {
	at, _ := netip.ParseAddrPort(s.Address)
	return at.Addr()
}

// Text is an answer for reading; two answers read the same where nobody who asks for the set would notice a difference.
func (o Observed) Text() string {
	switch {
	case o.Absent():
		return "nothing"
	case o.Answer == Referral && len(o.Data) > 0:
		return "referral to " + joined(o.Data)
	case o.Answer != Positive:
		return string(o.Answer)
	}
	return joined(o.Data)
}

func joined(data []record.Data) string {
	parts := make([]string, len(data))
	for i, d := range data {
		parts[i] = string(d)
	}
	return strings.Join(parts, ", ")
}

// KeyText names a set for reading.
func KeyText(k record.Key) string { return dnsname.Short(k.Name) + " " + k.Type.String() }
