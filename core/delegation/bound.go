package delegation

import (
	"fmt"
	"slices"
	"time"

	"beacon/core/evidence"
	"beacon/core/wording"
)

// unheardC stands for the TTL of an apex NS set that was never heard, because its servers did not answer any more when
// they were asked: two days, in seconds, which hardly any zone exceeds.
const unheardC = 172800

func seconds(ttl uint32) time.Duration { return time.Duration(ttl) * time.Second }

// moments computes when each thing that changed must have settled: the worst case for every cache that obeys TTLs. What changed
// twice, a set with the delegation and once more since, has settled when the later has. It gives nothing while T is not established.
func (h History) moments(domain string) []Moment {
	var out []Moment
	if h.Since.IsZero() {
		return nil
	}
	if h.Absent != nil && len(h.Current.Set) > 0 {
		by, before := h.Since.Add(seconds(*h.Absent)), "it was not delegated before"
		if h.Former != nil {
			before = "a parent answered that it does not exist"
		}
		out = append(out, Moment{What: "delegation", Subject: domain, Since: h.Since, By: by, Likely: by,
			Why: fmt.Sprintf("%s; caches may hold its absence for %s", before, wording.Seconds(*h.Absent))})
	}
	if h.Former != nil {
		d, why := h.delegationBound()
		m := Moment{What: "delegation", Subject: domain, Since: h.Since, By: d, Likely: h.likelyDelegation(d), Why: why}
		if h.Former.Told.IsZero() {
			m.Except = "a resolver that keeps refreshing the old set from the old nameservers is bound by no time, until the new NS records are in the old zone or the old zone is gone"
		}
		out = append(out, m)
		for _, old := range h.Former.Sets {
			if m, changed := h.contentMoment(old, d); changed {
				out = append(out, m)
			}
		}
	}
	for _, e := range h.Edits {
		by, ttl := e.Before.HeldUntil(e.At), max(e.Before.TTL, e.Before.Was)
		if e.Before.Answer != evidence.Positive {
			ttl = e.N
			by = e.At.Add(seconds(ttl))
		}
		out = append(out, Moment{What: "content", Subject: e.Before.Key.String(), Since: e.At, By: by, Likely: by,
			Why: fmt.Sprintf("changed at all nameservers; the old answer may be held for %s", wording.Seconds(ttl))})
	}
	for _, host := range h.Hosts {
		if m, moved := host.moment(); moved {
			out = append(out, m)
		}
	}
	if m, changed := h.DS.moment(domain); changed {
		out = append(out, m)
	}
	return slices.DeleteFunc(slices.Clone(out), func(m Moment) bool {
		return m.What == "content" && slices.ContainsFunc(out, func(o Moment) bool { return o.What == m.What && o.Subject == m.Subject && o.By.After(m.By) })
	})
}

// likelyDelegation is by when most have come over: who follows the parents holds the old set for P. Where the old servers give their own
// NS set with every answer, that takes its place for C, but for no longer than the parents' would have lasted: caches cap it so since it
// was found that domains could be kept alive after their delegation was gone.
func (h History) likelyDelegation(bound time.Time) time.Time {
	hold, own := h.Former.P.At(h.Since), h.Former.C.At(h.Since)
	if h.Former.GivesNS && own > 0 {
		hold = min(hold, own)
	}
	if likely := h.Since.Add(seconds(hold)); likely.Before(bound) {
		return likely
	}
	return bound
}

// delegationBound is D = max(T+P, min(Tc, T+P) + C): a cache fetched the old set from the parents just before T, and
// just before that ran out it asked the old servers, which gave it their own NS set once more.
func (h History) delegationBound() (time.Time, string) {
	p, c := h.Former.P.At(h.Since), h.Former.C.At(h.Since)
	parent := h.Since.Add(seconds(p))
	last := parent
	if !h.Former.Told.IsZero() && h.Former.Told.Before(parent) {
		last = h.Former.Told
	}
	child := last.Add(seconds(c))
	why := fmt.Sprintf("all parents served the new set at %s; the old set is held for up to %s from the parents, "+
		"and %s more from the old nameservers", clockText(h.Since), wording.Seconds(p), wording.Seconds(c))
	if !h.Former.Known {
		why += ", which were not heard: two days are assumed"
	}
	if child.Before(parent) {
		return parent, why
	}
	return child, why
}

// Bound returns D: by when no cache holds the former delegation, nor that there was none. It is zero where nothing was before, or T is not established.
func (h History) Bound() (by time.Time) {
	if h.Since.IsZero() {
		return by
	}
	if h.Former != nil {
		by, _ = h.delegationBound()
	}
	if h.Absent != nil {
		by = later(by, h.Since.Add(seconds(*h.Absent)))
	}
	return by
}

// contentMoment is min(D, To) + R, with the negative TTL in place of R for what was absent.
func (h History) contentMoment(old Kept, d time.Time) (Moment, bool) {
	for _, now := range h.Current.Sets {
		if now.Key == old.Key && evidence.SameAnswer(now.Observed, old.Observed) {
			return Moment{}, false
		}
	}
	until := d
	for _, m := range h.Former.Matched {
		if m.Key == old.Key && m.At.Before(d) {
			until = m.At
		}
	}
	if old.Answer != evidence.Positive {
		old.TTL, old.Was, old.Lowered = h.Former.N.At(h.Since), 0, time.Time{}
	}
	likely := h.likelyDelegation(d)
	if until.Before(likely) {
		likely = until
	}
	return Moment{What: "content", Subject: old.Key.String(), Since: h.Since, By: old.HeldUntil(until), Likely: old.HeldUntil(likely),
		Why: fmt.Sprintf("the old answer can be fetched until %s and then be held for %s", clockText(until), wording.Seconds(max(old.TTL, old.Was)))}, true
}

// latest returns the last of the moments.
func latest(moments []Moment) *time.Time {
	var last *time.Time
	for _, m := range moments {
		if last == nil || m.By.After(*last) {
			by := m.By
			last = &by
		}
	}
	return last
}

// clockText shows a simulated time to the second.
func clockText(t time.Time) string { return t.UTC().Format("15:04:05") }
