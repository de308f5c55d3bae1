package arrival

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"beacon/core/dnsname"
)

// overHTTP reports whether an authority that asks afresh would find the proof at the host that shall have the certificate:
// every parent leads to the nameservers that shall answer, each of these leads to the same addresses, A and AAAA, each
// address answers on port 80 (RFC 8555 section 8.3), and CAA permits it.
func (j *judge) overHTTP(s Site, given []netip.Addr, caa []string, behind []Behind) (r Readiness) {
	r.Lacks = append(r.Lacks, j.e.Above...)
	if !s.told() {
		r.Unknown = "no nameserver said where " + short(s.Name) + " is"
	} else if len(given) == 0 {
		r.Lacks = append(r.Lacks, short(s.Name)+" has no address")
	}
	want := s.Wanted
	if len(want) == 0 {
		want = given
	}
	for _, l := range s.Servers {
		switch {
		case l.Problem != "":
			r.Lacks = append(r.Lacks, fmt.Sprintf("%s does not say where it is: %s", l.Who, l.Problem))
		case !slices.Equal(l.Addresses, want):
			r.Lacks = append(r.Lacks, fmt.Sprintf("%s resolves to %s, not %s", l.Who, texts(l.Addresses), texts(want)))
		}
	}
	for _, a := range given {
		switch c := s.contact(a, false); {
		case !tried(c):
			r.Unknown = "whether " + a.String() + " answers was not looked at"
		case c.Failure != "":
			r.Lacks = append(r.Lacks, fmt.Sprintf("nothing usable answers over http at %s (%s)", a, network(a)))
		}
	}
	r.Lacks = append(r.Lacks, caa...)
	if len(behind) > 0 {
		r.Mind = append(r.Mind, behindText(behind))
	}
	return r.closed()
}

// overDNS reports whether the record that an authority asks for (_acme-challenge, RFC 8555 section 8.4) can be written at
// every nameserver that the parents lead to, be they the old ones: then no site need be without a certificate while it moves.
func (j *judge) overDNS(caa []string) (r Readiness) {
	switch w := j.e.Writes; {
	case w == nil:
		r.Unknown = "where records can be written is known only of domains that are managed here"
	case len(w.At)+len(w.Not) == 0:
		r.Lacks = append(r.Lacks, "the parents name no nameserver")
	case len(w.Not) > 0:
		r.Lacks = append(r.Lacks, "records cannot be written from here at "+namesOf(w.Not))
	}
	if w := j.e.Writes; w != nil && len(w.Silent) > 0 {
		r.Lacks = append(r.Lacks, namesOf(w.Silent)+" cannot be asked for the proof")
	}
	r.Lacks = append(r.Lacks, caa...)
	return r.closed()
}

// closed settles what follows from the rest: what is lacking is known, whatever else is not.
func (r Readiness) closed() Readiness {
	if len(r.Lacks) > 0 {
		r.Unknown = ""
	}
	r.Ready = len(r.Lacks) == 0 && r.Unknown == ""
	return r
}

func namesOf(list []dnsname.Name) string {
	parts := make([]string, len(list))
	for i, n := range list {
		parts[i] = short(n)
	}
	return strings.Join(parts, ", ")
}
