package arrival

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

// permits is what a relevant CAA set says (RFC 8659 section 4).
type permits struct {
	who     string
	at      dnsname.Name // where the set is; zero where there is none
	issuers []string     // whom it permits; meaningful where limited
	limited bool         // there are issue properties
	unknown string       // a critical property that nobody knows: nobody may issue
	problem string
}

// allows reports whether an authority may issue.
func (p permits) allows(identity string) bool {
	return p.problem == "" && p.unknown == "" && (!p.limited || slices.Contains(p.issuers, identity))
}

func (p permits) same(o permits) bool {
	return p.limited == o.limited && p.unknown == o.unknown && slices.Equal(p.issuers, o.issuers)
}

// text says whom it permits.
func (p permits) text() string {
	switch {
	case p.unknown != "":
		return "no authority, for the critical property “" + p.unknown + "” is not known to any authority"
	case !p.limited:
		return "everybody"
	case len(p.issuers) == 0:
		return "nobody"
	}
	return strings.Join(p.issuers, ", ")
}

// permissions returns the relevant set of each nameserver: the one at the site's name, or else at the nearest name above it
// (RFC 8659 section 3). Above the domain nothing is looked at: the zones there are the registries'.
func permissions(s Site, domain dnsname.Name) (list []permits) {
	var who []string
	for _, c := range s.CAA {
		if !slices.Contains(who, c.Who) {
			who = append(who, c.Who)
		}
	}
	for _, w := range who {
		p := permits{who: w}
		for at := s.Name; p.at.IsZero() && p.problem == ""; at = at.Parent() {
			for _, c := range s.CAA {
				if c.Who != w || c.Name != at {
					continue
				}
				if p.problem = c.Problem; len(c.Data) > 0 {
					p.at = c.Name
					p.read(c.Data)
				}
			}
			if at == domain || at.IsRoot() {
				break
			}
		}
		list = append(list, p)
	}
	return list
}

// read takes the properties of a set in. Flag 128 is "critical" (RFC 8659 section 4.1).
func (p *permits) read(data []record.Data) {
	for _, d := range data {
		parts := strings.SplitN(string(d), " ", 3)
		if len(parts) != 3 {
			continue
		}
		flags, _ := strconv.Atoi(parts[0])
		switch tag := strings.ToLower(parts[1]); tag {
		case "issue":
			p.limited = true
			identity, _, _ := strings.Cut(strings.Trim(parts[2], `"`), ";")
			if identity = strings.ToLower(strings.TrimSpace(identity)); identity != "" {
				p.issuers = append(p.issuers, identity)
			}
		case "issuewild", "iodef", "issuemail", "issuevmc", "contactemail", "contactphone":
		default:
			if flags&128 != 0 {
				p.unknown = tag
			}
		}
	}
	slices.Sort(p.issuers)
	p.issuers = slices.Compact(p.issuers)
}

// judgeCAA returns what CAA records stand in the way of.
func (j *judge) judgeCAA(s Site) (lacks []string) {
	list := permissions(s, j.e.Domain)
	name := short(s.Name)
	for _, p := range list {
		if p.problem != "" {
			lacks = append(lacks, p.who+" does not answer about CAA")
			j.find("caa-unanswered", finding.Warning, p.who, fmt.Sprintf("%s does not answer what CAA says of %s: %s. An authority must treat that as a refusal (RFC 8659 section 3).", p.who, name, p.problem),
				"Have the nameserver answer questions for CAA, with an empty answer where there is none.", p.who+": "+p.problem)
		}
	}
	list = slices.DeleteFunc(list, func(p permits) bool { return p.problem != "" })
	if len(list) == 0 {
		return lacks
	}
	first := list[0]
	for _, p := range list[1:] {
		if !p.same(first) {
			j.find("caa-differs", finding.Warning, name, fmt.Sprintf("The nameservers permit different authorities for %s: %s says %s, %s says %s.", name, first.who, first.text(), p.who, p.text()),
				"Give all nameservers the same CAA records; an authority asks any of them.", first.who+": "+first.text(), p.who+": "+p.text())
			break
		}
	}
	for _, p := range list {
		if p.unknown != "" {
			j.find("caa-critical", finding.Warning, name, fmt.Sprintf("The CAA records at %s hold the critical property “%s”, which no standard knows: no authority may issue (RFC 8659 section 4.1).", short(p.at), p.unknown),
				"Correct the tag, or set the record's flags to 0.")
			return append(lacks, "the CAA records at "+short(p.at)+" hold an unknown critical property")
		}
	}
	for _, p := range list {
		forbidden := p.limited && len(p.issuers) == 0
		for _, i := range j.e.Issuers {
			forbidden = true
			if p.allows(i.Identity) {
				forbidden = false
				break
			}
		}
		if forbidden {
			j.find("caa-forbids", finding.Warning, name, fmt.Sprintf("The CAA records at %s permit %s, and certificates for %s should come from %s.", short(p.at), p.text(), name, j.issuers()),
				fmt.Sprintf("Add a record that permits it: %s CAA 0 issue %q. Otherwise the next certificate is refused.", short(p.at), j.issuer()), p.who+": "+p.text())
			return append(lacks, "the CAA records at "+short(p.at)+" do not permit "+j.issuers())
		}
	}
	j.judgeRenewal(s, list)
	return lacks
}

// judgeRenewal says that the authority of the certificate that is in use could not renew it.
func (j *judge) judgeRenewal(s Site, list []permits) {
	for _, c := range s.Contacts {
		if c.Certificate == nil {
			continue
		}
		for _, i := range j.e.Issuers {
			if i.Organization != c.Certificate.Organization {
				continue
			}
			for _, p := range list {
				if !p.allows(i.Identity) {
					j.find("caa-issuer", finding.Warning, short(s.Name), fmt.Sprintf("The certificate of %s is from %s, which the CAA records at %s no longer permit: it cannot be renewed there.", short(s.Name), i.Organization, short(p.at)),
						"Permit "+i.Identity+", or get the next certificate from a permitted authority.", p.who+": "+p.text())
					return
				}
			}
		}
	}
}

func (j *judge) issuer() string {
	if len(j.e.Issuers) == 0 {
		return "authority.example"
	}
	return j.e.Issuers[0].Identity
}

func (j *judge) issuers() string {
	if len(j.e.Issuers) == 0 {
		return "some authority"
	}
	list := make([]string, len(j.e.Issuers))
	for i, x := range j.e.Issuers {
		list[i] = x.Identity
	}
	return strings.Join(list, " or ")
}
