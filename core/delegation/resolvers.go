package delegation

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
)

// grace is how long past its bound a resolver may be seen old before it is said to overstay, in simulated time: answers
// carry whole seconds, and asking takes time.
const grace = 5 * time.Second

// judgeResolvers returns who sees what, and until when the rest may.
func (j *judge) judgeResolvers() {
	for _, r := range j.s.Resolvers {
		v := j.view(r)
		switch {
		case r.Rcode != "" && r.Problem != "":
			j.find("resolver-fails", finding.Warning, r.Name,
				fmt.Sprintf("The resolver %s (%s) returns no answer: %s.", r.Name, r.Address, r.Problem),
				"Fix the other findings first; if there are none, ask the operator of this resolver.", r.Explained...)
		case r.Problem != "":
			j.find("resolver-silent", finding.Warning, r.Name,
				fmt.Sprintf("The resolver %s (%s) could not be asked: %s.", r.Name, r.Address, r.Problem),
				"Nothing to do at the domain; see whether this resolver works at all.", r.Explained...)
		default:
			j.judgeResolver(&v, r)
		}
		j.report.Resolvers = append(j.report.Resolvers, v)
	}
}

// view is how a resolver sees the domain.
func (j *judge) view(r evidence.ResolverAnswer) View {
	v := View{Name: r.Name, Address: r.Address, Group: r.Group, Problem: r.Problem, AskedAt: r.At, Sees: j.h.sees(r), Sets: j.h.setViews(r), Explained: r.Explained}
	if r.SOA != nil {
		v.Through = dnsname.Short(r.SOA.Primary)
	}
	for i := range v.Sets {
		if s := &v.Sets[i]; s.Sees == "old" || s.Sees == "mixed" {
			s.Until = j.boundOf("content", s.Key.String())
		}
	}
	if f, ok := j.h.Follow[r.Name]; ok {
		v.Follow = &f
	}
	return v
}

func (j *judge) judgeResolver(v *View, r evidence.ResolverAnswer) {
	name := v.Name + " (" + v.Address + ")"
	if v.Sees == "old" || v.Sees == "other" {
		j.stillOld(v)
	}
	for _, s := range v.Sets {
		if s.Until != nil && v.AskedAt.After(s.Until.Add(grace)) && v.Sees != "old" {
			j.find("resolver-overstays", finding.Error, v.Name,
				fmt.Sprintf("%s still returns the old answer for %s, although its copy should have expired by %s.", name, evidence.KeyText(s.Key), clockText(*s.Until)),
				"Ask its operator to clear its cache for "+j.short+"; it does not keep to TTLs.", seenSet(v.Name, s))
		}
	}
	if len(r.Again) > 0 {
		o := r.Again[0]
		j.find("resolver-mixed", finding.Notice, v.Name,
			fmt.Sprintf("%s returned two answers for %s in a row: many machines share one address, and one does not know what another holds.", name, evidence.KeyText(o.Key)),
			"Nothing to do; expect both answers until the copies of all of them have expired.", v.Name+": "+o.Text())
	}
	if r.Refuses {
		why := ""
		if len(r.Explained) > 0 {
			why = " It says: " + strings.Join(r.Explained, "; ") + "."
		}
		j.find("resolver-refuses", finding.Warning, v.Name,
			fmt.Sprintf("%s validates, and does not believe the domain's answers: its users find nothing.%s", name, why),
			"See the findings about signatures. If they are right by now, it accepts the domain when its copies expire.", r.Explained...)
	} else if len(r.Explained) > 0 {
		j.find("resolver-explains", finding.Notice, v.Name, fmt.Sprintf("%s says with its answer: %s.", name, strings.Join(r.Explained, "; ")),
			"Nothing to do, unless users of this resolver complain.", r.Explained...)
	}
}

func seenSet(who string, s SetView) string {
	return fmt.Sprintf("%s: %s %s, %d s to go", who, evidence.KeyText(s.Key), evidence.Observed{Answer: evidence.Positive, Data: s.Data}.Text(), s.TTL)
}

// sees tells by the SOA in the resolver's negative answer which nameservers it goes to.
func (h History) sees(r evidence.ResolverAnswer) string {
	if r.Problem != "" || r.SOA == nil || !h.Current.Known {
		return "unknown"
	}
	now := h.Current.SOA
	f := h.Former
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
func sameZone(a, b evidence.SOA) bool { return a.Primary == b.Primary && a.Contact == b.Contact }

// setViews tells for each watched set whether a resolver gives the new answer, the old one, or both.
func (h History) setViews(r evidence.ResolverAnswer) []SetView {
	out := []SetView{}
	for _, o := range r.Sets {
		v := SetView{Key: o.Key, Sees: h.seesSet(o), Data: o.Data, TTL: o.TTL}
		for _, again := range r.Again {
			if again.Key != o.Key {
				continue
			}
			if other := h.seesSet(again); other != v.Sees && (other == "old" || v.Sees == "old") {
				v.Sees, v.TTL = "mixed", max(o.TTL, again.TTL)
			}
		}
		out = append(out, v)
	}
	return out
}

func (h History) seesSet(o evidence.Observed) string {
	if o.Answer == evidence.Silent || o.Answer == evidence.Lame {
		return "unknown"
	}
	at := slices.IndexFunc(h.Current.Sets, func(k Kept) bool { return k.Key == o.Key })
	if at < 0 {
		return "unknown"
	}
	now := h.Current.Sets[at].Observed
	olds := slices.DeleteFunc(h.oldAnswers(o.Key), func(old oldAnswer) bool { return evidence.SameAnswer(old.Observed, now) })
	switch {
	case evidence.SameAnswer(o, now) && len(olds) > 0:
		return "new"
	case evidence.SameAnswer(o, now):
		return "current"
	case slices.ContainsFunc(olds, func(old oldAnswer) bool { return evidence.SameAnswer(o, old.Observed) }):
		return "old"
	case o.Answer != evidence.Positive:
		return "none"
	}
	return "other"
}

// boundOf returns the moment of one thing; of several the last.
func (j *judge) boundOf(what, subject string) *time.Time {
	return latest(slices.DeleteFunc(slices.Clone(j.report.Moments), func(m Moment) bool { return m.What != what || m.Subject != subject }))
}

// stillOld judges a resolver that goes to nameservers that are no longer active.
func (j *judge) stillOld(v *View) {
	name := v.Name + " (" + v.Address + ")"
	by := j.boundOf("delegation", j.plan.Domain.String())
	seen := fmt.Sprintf("%s, asked for a name that does not exist: SOA of %s", name, v.Through)
	switch {
	case by == nil && v.Sees == "old":
		j.waiting = true
	case by == nil:
		j.waiting = true
		j.find("resolver-elsewhere", finding.Warning, v.Name,
			fmt.Sprintf("%s gets its answers through %s, not from the nameservers that the parent names. When the delegation "+
				"was changed is not known here, so neither is until when.", name, v.Through),
			"If the nameservers were changed within the last two days, wait; else ask who runs this resolver.", seen)
	case v.AskedAt.After(by.Add(grace)):
		j.find("resolver-overstays", finding.Error, v.Name,
			fmt.Sprintf("%s still goes to the old nameservers (%s), although its copy should have expired by %s.", name, v.Through, clockText(*by)),
			"Ask its operator to clear its cache for "+j.short+"; it does not keep to TTLs.", seen)
	default:
		v.Until = by
		j.find("resolver-still-old", finding.Notice, v.Name,
			fmt.Sprintf("%s still goes to the old nameservers (%s). That is normal until %s.", name, v.Through, clockText(*by)),
			"Nothing to do; its copy expires by then.", seen)
	}
}
