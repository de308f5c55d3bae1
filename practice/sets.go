package practice

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/miekg/dns"
)

// recordSet is a set as the interfaces of Whimbrel and Lapwing have it.
type recordSet struct {
	Name, Type string
	TTL        uint32
	Values     []string // none: the set goes
}

// sets returns the zone's sets, sorted by name and type.
func (z *hostedZone) sets(records []string) (list []recordSet) {
	for _, line := range records {
		rr, err := dns.NewRR(line)
		if err != nil || rr == nil {
			continue
		}
		h := rr.Header()
		value := strings.TrimPrefix(rr.String(), h.String())
		if n := len(list); n > 0 && list[n-1].Name == h.Name && list[n-1].Type == dns.Type(h.Rrtype).String() {
			list[n-1].Values = append(list[n-1].Values, value)
			continue
		}
		list = append(list, recordSet{h.Name, dns.Type(h.Rrtype).String(), h.Ttl, []string{value}})
	}
	slices.SortStableFunc(list, func(a, b recordSet) int { return strings.Compare(a.Name+" "+a.Type, b.Name+" "+b.Type) })
	return list
}

// with puts sets in place of those of their names and types, all or none.
func (z *hostedZone) with(sets []recordSet) error {
	records, changes := slices.Clone(z.Records), []string{}
	for _, s := range sets {
		name := dns.CanonicalName(s.Name)
		if !dns.IsSubDomain(z.Name, name) {
			return fmt.Errorf("%s is not in %s", s.Name, z.Name)
		}
		records = slices.DeleteFunc(records, func(line string) bool {
			f := strings.Fields(line)
			return f[0] == name && f[3] == s.Type
		})
		verb := "put "
		if len(s.Values) == 0 {
			verb = "drop "
		}
		changes = append(changes, verb+name+" "+s.Type)
		for _, value := range s.Values {
			line := fmt.Sprintf("%s %d IN %s %s", name, s.TTL, s.Type, value)
			rr, err := dns.NewRR(line)
			if err != nil || rr == nil {
				return fmt.Errorf("%q cannot be a record here", line)
			}
			records = append(records, normalRecord(rr))
		}
	}
	if name := standAlone(records); name != "" {
		return fmt.Errorf("%s would have a CNAME beside other data", name)
	}
	slices.Sort(records)
	z.replace(slices.Compact(records), changes)
	return nil
}

// in serves requests about a zone that the provider has, and refuses others.
func (p *providerState) in(refuse func(http.ResponseWriter, int, string, string), next func(http.ResponseWriter, *http.Request, *hostedZone)) http.HandlerFunc {
	return func(rw http.ResponseWriter, r *http.Request) {
		if z := p.Zones[dns.CanonicalName(r.PathValue("zone"))]; z != nil {
			next(rw, r, z)
			return
		}
		refuse(rw, http.StatusNotFound, "no-zone", "there is no such zone")
	}
}

// makeZone makes a zone at a provider; false where it is there, or cannot be one.
func (p *providerState) makeZone(text string) (*hostedZone, bool) {
	name := dns.CanonicalName(text)
	if _, ok := dns.IsDomainName(name); !ok || dns.CountLabel(name) < 2 || p.Zones[name] != nil {
		return nil, false
	}
	return p.create(name), true
}
