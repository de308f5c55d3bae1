package delegation

import (
	"fmt"
	"slices"
	"strings"

	"beacon/core/finding"
)

// judgeServers looks at every address of every nameserver that the parents name.
func (j *judge) judgeServers() {
	for _, p := range j.s.NoAddress {
		if slices.Contains(j.set, p.Name) {
			j.find("nameserver-unresolvable", finding.Error, p.Name.String(),
				fmt.Sprintf("The delegation names %s, which leads to no address: %s.", p.Name, p.Problem),
				"Correct the name at the registrar, or take it out there.")
		}
	}
	servers := serversOf(j.s, j.set)
	for _, a := range servers {
		j.judgeServer(a)
	}
	if j.agreed { // while a change is on its way, two providers' servers differ as they should
		j.compareServers(servers)
	}
}

func (j *judge) judgeServer(a ServerAnswer) {
	subject := strings.TrimSuffix(a.Name.String(), ".")
	switch a.Answer {
	case Silent:
		j.find("nameserver-silent", finding.Error, subject,
			fmt.Sprintf("%s at %s gives no answer: %s.", subject, a.Address, a.Problem),
			"See whether the server is up and reachable; if it is retired, take it out of the delegation.")
	case Lame:
		j.find("nameserver-lame", finding.Error, subject,
			fmt.Sprintf("%s at %s answers, but not for this zone: %s.", subject, a.Address, a.Problem),
			"Make the zone at this provider, or take the nameserver out of the delegation.")
	case Positive:
		if a.NoTCP != "" {
			j.find("no-tcp", finding.Warning, subject,
				fmt.Sprintf("%s at %s does not answer over TCP: %s. Large answers will fail.", subject, a.Address, a.NoTCP),
				"Open TCP to port 53 of this server (RFC 7766).")
		}
		if j.agreed && !SameSet(a.NS, j.set) && len(a.NS) > 0 {
			j.childSetDiffers(a, subject)
		}
	}
}

func (j *judge) childSetDiffers(a ServerAnswer, subject string) {
	j.find("child-set-differs", finding.Warning, subject,
		fmt.Sprintf("The zone at %s names %s as its nameservers; the parent names %s. Some resolvers follow the zone.",
			subject, joinNames(a.NS), joinNames(j.set)),
		"Make the NS records at the apex and the list at the registrar the same.")
}

// compareServers holds the servers in force against each other.
func (j *judge) compareServers(servers []ServerAnswer) {
	serials := map[uint32]bool{}
	answers := map[string]map[string]bool{}
	for _, a := range servers {
		if a.Answer != Positive {
			continue
		}
		serials[a.SOA.Serial] = true
		for _, o := range a.Sets {
			key := o.Key.String()
			if answers[key] == nil {
				answers[key] = map[string]bool{}
			}
			answers[key][fmt.Sprint(o.Answer, o.Data)] = true
		}
	}
	if len(serials) > 1 {
		j.find("serials-differ", finding.Warning, j.plan.Domain.String(),
			fmt.Sprintf("The nameservers hold %d different serials of the zone.", len(serials)),
			"If they have not converged in a few minutes, look at the provider's state of the zone.")
	}
	for key, different := range answers {
		if len(different) > 1 {
			j.find("answers-differ", finding.Warning, key, "The nameservers give different answers for this record set.",
				"If they have not converged in a few minutes, look at the provider's state of the zone.")
		}
	}
}

// judgeOldServers looks at the set before, which caches still use while the change settles.
func (j *judge) judgeOldServers() {
	f := j.h.Former
	if f == nil || j.report.SettlesBy == nil || !j.now.Before(*j.report.SettlesBy) {
		return
	}
	gone := 0
	servers := serversOf(j.s, missing(f.Set, j.set))
	for _, a := range servers {
		if a.Answer != Positive {
			gone++
		}
	}
	until := clockText(*j.report.SettlesBy)
	switch {
	case gone > 0:
		j.find("old-servers-stopped", finding.Warning, j.plan.Domain.String(),
			fmt.Sprintf("%d of %d old nameserver addresses no longer answer for the zone, and caches may ask them until %s: "+
				"for those users the domain is down.", gone, len(servers), until),
			"Put the zone back at the old provider until then.")
	case len(servers) > 0 && f.Told.IsZero():
		j.find("old-zone-names-old-set", finding.Notice, j.plan.Domain.String(),
			"The old nameservers still name themselves in the zone. A resolver that keeps refreshing that set from them "+
				"is bound by no time; most are not of that kind.",
			"Put the new NS records into the old zone, or remove the old zone after "+until+" (RFC 6781 section 4.3.5).")
	}
}
