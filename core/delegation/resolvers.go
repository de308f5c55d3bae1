package delegation

import (
	"fmt"
	"strings"
	"time"

	"beacon/core/finding"
)

// grace is how long past its bound a resolver may be seen old before it is said to overstay, in world time: answers
// carry whole seconds, and asking takes time.
const grace = 5 * time.Second

// judgeResolvers says who sees what, and until when the rest may.
func (j *judge) judgeResolvers() {
	for _, r := range j.s.Resolvers {
		v := View{Name: r.Name, Address: r.Address, Answers: r.Sets, Problem: r.Problem, AskedAt: r.At, Sees: j.sees(r)}
		if r.SOA != nil {
			v.Through = strings.TrimSuffix(r.SOA.Primary.String(), ".")
		}
		if v.Sees == "old" || v.Sees == "other" {
			j.stillOld(&v)
		}
		if r.Problem != "" {
			j.find("resolver-silent", finding.Warning, r.Name,
				fmt.Sprintf("The resolver %s (%s) could not be asked: %s.", r.Name, r.Address, r.Problem),
				"Nothing to do at the domain; see whether this resolver works at all.")
		}
		j.report.Resolvers = append(j.report.Resolvers, v)
	}
}

// sees tells by the SOA in the resolver's negative answer which nameservers it goes to.
func (j *judge) sees(r ResolverAnswer) string {
	if r.Problem != "" || r.SOA == nil || !j.h.Current.Known {
		return "unknown"
	}
	now := j.h.Current.SOA
	f := j.h.Former
	switch {
	case f == nil && sameZone(*r.SOA, now):
		return "current"
	case f == nil:
		return "other"
	case !sameZone(f.SOA, now) && sameZone(*r.SOA, now):
		return "new"
	case !sameZone(f.SOA, now) && sameZone(*r.SOA, f.SOA):
		return "old"
	case sameZone(f.SOA, now) && f.SOA.Serial != now.Serial && r.SOA.Serial == now.Serial:
		return "new"
	case sameZone(f.SOA, now) && f.SOA.Serial != now.Serial && r.SOA.Serial == f.SOA.Serial:
		return "old"
	case sameZone(f.SOA, now):
		return "unknown"
	}
	return "other"
}

// sameZone reports whether two SOA records come from one provider's copy of the zone.
func sameZone(a, b SOA) bool { return a.Primary == b.Primary && a.Contact == b.Contact }

// stillOld judges a resolver that goes to nameservers that are no longer in force.
func (j *judge) stillOld(v *View) {
	name := v.Name + " (" + v.Address + ")"
	var by *time.Time
	for _, m := range j.report.Moments {
		if m.What == "delegation" {
			at := m.By
			by = &at
		}
	}
	switch {
	case by == nil && v.Sees == "old":
		j.waiting = true
	case by == nil:
		j.waiting = true
		j.find("resolver-elsewhere", finding.Warning, v.Name,
			fmt.Sprintf("%s gets its answers through %s, not from the nameservers that the parent names. When the delegation "+
				"was changed is not known here, so neither is until when.", name, v.Through),
			"If the nameservers were changed within the last two days, wait; else ask who runs this resolver.")
	case v.AskedAt.After(by.Add(grace)):
		j.find("resolver-overstays", finding.Error, v.Name,
			fmt.Sprintf("%s still goes to the old nameservers (%s), though it had to let go by %s.", name, v.Through, clockText(*by)),
			"Ask whoever runs it to clear its cache for "+strings.TrimSuffix(j.plan.Domain.String(), ".")+"; it does not keep to TTLs.")
	default:
		v.Until = by
		j.find("resolver-still-old", finding.Notice, v.Name,
			fmt.Sprintf("%s still goes to the old nameservers (%s). That is normal until %s.", name, v.Through, clockText(*by)),
			"Nothing to do; it must have let go by then.")
	}
}
