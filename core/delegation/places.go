package delegation

import (
	"fmt"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
)

// judgePlaces holds what others see against what is seen here.
func (j *judge) judgePlaces() {
	for _, p := range j.s.Places {
		view := PlaceView{Name: p.Name, Problem: p.Problem}
		if p.Problem != "" {
			j.find("vantage-point-silent", finding.Warning, p.Name, fmt.Sprintf("The vantage point %s could not be asked: %s.", p.Name, p.Problem), "Look at that instance, and at the token for it.")
			j.report.Places = append(j.report.Places, view)
			continue
		}
		view.Parents, view.Servers = sources(p.Parents, p.Servers)
		for _, r := range p.Resolvers {
			view.Views = append(view.Views, j.view(r))
		}
		j.report.Places = append(j.report.Places, view)
		seen, _ := evidence.Sweep{Parents: p.Parents, Servers: p.Servers}.Sighted()
		for _, there := range seen.Servers {
			for _, here := range j.s.Servers {
				if here.Server != there.Server || here.Answer == there.Answer {
					continue
				}
				if j.inSet(there.Server) {
					j.find("vantage-points-disagree", finding.Warning, dnsname.Short(there.Name),
						fmt.Sprintf("From here %s at %s returns: %s. From %s: %s.", dnsname.Short(there.Name), there.Address, heardAs(here), p.Name, heardAs(there)),
						"Something on the way, or the server itself, treats the two places differently: an address that many machines share, or a filter.")
				}
			}
		}
		if len(seen.Parents) > 0 {
			if set, complete := parentSet(seen); complete && j.agreed && !SameSet(set, j.set) {
				j.find("vantage-points-disagree", finding.Warning, j.short, fmt.Sprintf("From %s the parent returns %s; from here %s.", p.Name, joinNames(set), joinNames(j.set)),
					"A change may be under way at the registry; if this lasts, ask the registrar.")
			}
		}
	}
}

func (j *judge) inSet(s evidence.Server) bool {
	for _, n := range j.set {
		if n == s.Name {
			return true
		}
	}
	return false
}

func heardAs(a evidence.ServerAnswer) string {
	if a.Answer == evidence.Positive {
		return "an answer for the zone"
	}
	return a.Problem
}
