package delegation

import (
	"slices"
	"time"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/record"
)

// History is what earlier sweeps established and later ones build on.
type History struct {
	Current State     `json:"current"`
	Since   time.Time `json:"since"` // T: receipt of the first complete sweep with Current's set; zero: not complete yet
	// Former is what was before Current, as long as caches may hold it; nil where nothing has changed.
	Former *Former `json:"former,omitempty"`
	Absent *uint32 `json:"absent,omitempty"` // the parent's negative TTL, where the domain was not delegated just before
	Edits  []Edit  `json:"edits,omitempty"`  // watched sets changed while the delegation stayed
	DS     DSState `json:"ds"`
	Hosts  []Host  `json:"hosts,omitempty"` // nameservers within the domain
	// Serials are those of the last sweep by address, and SkewSince is when they were first seen apart.
	Serials   map[string]uint32    `json:"serials,omitempty"`
	SkewSince time.Time            `json:"skew_since"`
	Follow    map[string]Following `json:"follow,omitempty"` // how resolvers followed the last change, by name
	before    map[string]uint32    // Serials of the sweep before, within one judgement
}

// State is what was seen while one nameserver set was active.
type State struct {
	Set     []dnsname.Name `json:"set"`
	P       TTLs           `json:"p"`           // seen on the parents' referral
	C       TTLs           `json:"c"`           // seen on the apex NS set at its own servers
	N       TTLs           `json:"n"`           // negative TTLs of the zone
	K       TTLs           `json:"k,omitempty"` // seen on the DNSKEY set at its own servers
	SOA     evidence.SOA   `json:"soa"`
	Sets    []Kept         `json:"sets,omitempty"`     // the watched sets
	GivesNS bool           `json:"gives_ns,omitempty"` // its servers give the apex NS set with their answers, so caches hold it for C
	Known   bool           `json:"known"`              // its servers have been heard, so C, N, SOA and Sets count
}

// Kept is a watched set as it was answered last. Where its TTL was lowered, caches may still hold it for as long as before.
type Kept struct {
	evidence.Observed
	Was     uint32    `json:"was,omitempty"` // R0: the TTL before it was lowered
	Lowered time.Time `json:"lowered"`       // L: since when all servers give the lower one; zero: it was not
}

// HeldUntil is by when caches have let go that could fetch it until last: max(L+R0, last+R1).
func (k Kept) HeldUntil(last time.Time) time.Time {
	until := last.Add(seconds(k.TTL))
	if before := k.Lowered.Add(seconds(k.Was)); !k.Lowered.IsZero() && before.After(until) {
		return before
	}
	return until
}

// Former is a state that is no longer active, and what has happened at its servers since.
type Former struct {
	State
	Told    time.Time    `json:"told"`    // Tc: since when all old servers serve the new apex NS set; zero: they do not
	Matched []MatchedSet `json:"matched"` // To, by set: since when all old servers give the new data
}

// MatchedSet is since when the old servers agree with the new ones about a set.
type MatchedSet struct {
	Key record.Key `json:"key"`
	At  time.Time  `json:"at"`
}

// Edit is a watched set that changed at the servers active.
type Edit struct {
	Before Kept      `json:"before"`
	N      uint32    `json:"n"`  // negative TTL then
	At     time.Time `json:"at"` // first sweep in which all servers gave the new data
}

// Advance returns the history updated with a sweep.
func Advance(h History, s evidence.Sweep) History {
	s, _ = s.Sighted()
	h.Edits = slices.Clone(h.Edits)
	set, complete := parentSet(s)
	switch {
	case !complete:
		h.interrupted(s)
	case len(set) == 0:
		negative := uint32(0)
		for _, p := range s.Parents {
			negative = max(negative, p.Negative)
		}
		if len(h.Current.Set) > 0 { // taken away: caches may still hold it when it comes back elsewhere
			h.Former = formerOf(h, s.Ended)
		}
		h.Current, h.Since, h.Edits, h.Absent = State{}, time.Time{}, nil, &negative
	case SameSet(set, h.Current.Set):
		if h.Since.IsZero() {
			h.Since = lastReceipt(s)
		}
	default:
		if len(h.Current.Set) > 0 {
			h.Former = formerOf(h, s.Ended)
			h.Absent = nil
		}
		h.Current, h.Since, h.Edits, h.Follow = State{Set: set}, lastReceipt(s), nil, nil
	}
	h.Current.observeParents(s)
	if h.Former != nil {
		f := *h.Former
		f.observeParents(s)
		h.Former = &f
	}
	h.observeServers(s)
	if h.Former != nil {
		h.Former.follow(h.Current, s)
	}
	h.observeDS(s)
	h.observeHosts(s)
	h.observeSerials(s)
	h.observeResolvers(s)
	h.forget(s)
	return h
}

// forgetAfter is how long what has settled is remembered, simulated time: long enough that a report still says what was last.
const forgetAfter = 24 * time.Hour

// forget drops what settled long ago, so that nobody is asked about it any more. What a resolver still sees is kept.
func (h *History) forget(s evidence.Sweep) {
	past := func(by time.Time) bool { return by.Add(forgetAfter).Before(s.Ended) }
	if h.Former != nil && !h.Since.IsZero() {
		by, _ := h.delegationBound()
		for _, old := range h.Former.Sets {
			if m, changed := h.contentMoment(old, by); changed {
				by = later(by, m.By)
			}
		}
		seen := slices.ContainsFunc(s.Resolvers, func(r evidence.ResolverAnswer) bool { old, _ := h.holdsOld(r); return old })
		if past(by) && !seen {
			h.Former, h.Follow = nil, nil
		}
	}
	if h.Absent != nil && !h.Since.IsZero() && past(h.Since.Add(seconds(*h.Absent))) {
		h.Absent = nil
	}
	h.Edits = slices.DeleteFunc(h.Edits, func(e Edit) bool { return past(e.Before.HeldUntil(e.At).Add(seconds(e.N))) })
	keys := time.Duration(0)
	if h.DS.Was != "" { // keys that it made good are held for longer than the DS
		keys = seconds(max(unheardC, h.Current.K.At(s.Ended)))
	}
	if m, changed := h.DS.moment(""); changed && past(m.By.Add(keys)) && !h.DS.Back {
		h.DS.Changed = time.Time{}
	}
	h.Hosts = slices.Clone(h.Hosts)
	for i, host := range h.Hosts {
		if m, moved := host.moment(); moved && past(m.By) && m.Except == "" {
			h.Hosts[i].Moved, h.Hosts[i].Glue.Changed, h.Hosts[i].Own.Changed = false, time.Time{}, time.Time{}
		}
	}
}

// interrupted handles a sweep in which the parents do not all say the same: a regression resets T, to what was before or to nothing at all.
func (h *History) interrupted(s evidence.Sweep) {
	if h.Former == nil && h.Absent == nil {
		return
	}
	for _, p := range s.Parents {
		switch gone := p.Answer == evidence.NoName || p.Answer == evidence.NoData; {
		case gone:
			held := p.Negative
			if h.Absent != nil {
				held = max(held, *h.Absent)
			}
			h.Since, h.Absent = time.Time{}, &held
		case p.Answer == evidence.Referral && !SameSet(p.NS, h.Current.Set):
			h.Since = time.Time{}
		}
	}
}

// formerOf makes the current state the former one. Where an earlier change still settles, the longer TTLs count.
func formerOf(h History, now time.Time) *Former {
	f := &Former{State: h.Current}
	if !f.Known {
		f.C = f.C.Seen(unheardC, now)
	}
	if h.Former != nil {
		f.P, f.C, f.N, f.K = f.P.with(h.Former.P), f.C.with(h.Former.C), f.N.with(h.Former.N), f.K.with(h.Former.K)
	}
	return f
}

// parentSet returns the one set that all parents serve; complete is false where one failed or they differ. An empty
// set means that all of them say there is no delegation.
func parentSet(s evidence.Sweep) (set []dnsname.Name, complete bool) {
	if s.Failure != "" || len(s.Parents) == 0 {
		return nil, false
	}
	for i, p := range s.Parents {
		if p.Answer != evidence.Referral && p.Answer != evidence.NoName && p.Answer != evidence.NoData {
			return nil, false
		}
		if i > 0 && !SameSet(p.NS, s.Parents[0].NS) {
			return nil, false
		}
	}
	return s.Parents[0].NS, true
}

func lastReceipt(s evidence.Sweep) time.Time {
	last := s.Began
	for _, p := range s.Parents {
		if p.At.After(last) {
			last = p.At
		}
	}
	return last
}

func (st *State) observeParents(s evidence.Sweep) {
	for _, p := range s.Parents {
		if p.Answer == evidence.Referral && SameSet(p.NS, st.Set) {
			st.P = st.P.Seen(p.TTL, p.At)
		}
	}
}

// observeServers keeps what the servers active say, and notices watched sets that they changed.
func (h *History) observeServers(s evidence.Sweep) {
	st := &h.Current
	servers := evidence.ServersOf(s, st.Set)
	heard := 0
	for _, a := range servers {
		if a.Answer != evidence.Positive {
			continue
		}
		heard++
		st.C, st.N = st.C.Seen(a.NSTTL, s.Ended), st.N.Seen(a.SOA.Negative, s.Ended)
		for _, rr := range a.Keys {
			if rr.Header().Rrtype == dns.TypeDNSKEY {
				st.K = st.K.Seen(rr.Header().Ttl, s.Ended)
			}
		}
		st.SOA, st.GivesNS = a.SOA, st.GivesNS || a.GivesNS
	}
	if heard == 0 {
		return
	}
	for _, now := range agreed(servers) {
		at := slices.IndexFunc(st.Sets, func(o Kept) bool { return o.Key == now.Key })
		st.Sets = slices.Clone(st.Sets)
		switch {
		case at < 0:
			st.Sets = append(st.Sets, Kept{Observed: now})
		case evidence.SameAnswer(st.Sets[at].Observed, now):
			st.Sets[at] = st.Sets[at].seen(now, s.Ended)
		default:
			h.Edits = slices.DeleteFunc(h.Edits, func(e Edit) bool { return e.Before.Key == now.Key })
			h.Edits = append(h.Edits, Edit{st.Sets[at], st.N.At(s.Ended), s.Ended})
			st.Sets[at] = Kept{Observed: now}
			h.Follow = nil
		}
	}
	st.Known = true
}

// seen takes the same answer in once more: a TTL that all servers have lowered counts from now on, beside the one before.
func (k Kept) seen(now evidence.Observed, at time.Time) Kept {
	switch {
	case now.TTL >= k.TTL:
		k.TTL = now.TTL
		if k.TTL >= k.Was {
			k.Was, k.Lowered = 0, time.Time{}
		}
	default:
		k.Was, k.Lowered, k.TTL = max(k.Was, k.TTL), at, now.TTL
	}
	return k
}

// agreed returns the watched sets about which all servers that were asked agree, with the largest TTL.
func agreed(servers []evidence.ServerAnswer) []evidence.Observed {
	var out []evidence.Observed
	for i, a := range servers {
		if a.Answer != evidence.Positive {
			return nil
		}
		if i == 0 {
			out = slices.Clone(a.Sets)
			continue
		}
		out = slices.DeleteFunc(out, func(o evidence.Observed) bool {
			return !slices.ContainsFunc(a.Sets, func(other evidence.Observed) bool { return o.Key == other.Key && evidence.SameAnswer(o, other) })
		})
		for k, o := range out {
			for _, other := range a.Sets {
				if other.Key == o.Key {
					out[k].TTL = max(o.TTL, other.TTL)
				}
			}
		}
	}
	return slices.DeleteFunc(out, func(o evidence.Observed) bool { return o.Answer == evidence.Silent || o.Answer == evidence.Lame })
}

// follow notes since when the old servers tell of the new set (Tc) and give the new data (To).
func (f *Former) follow(now State, s evidence.Sweep) {
	f.Matched = slices.Clone(f.Matched)
	servers := evidence.ServersOf(s, f.Set)
	told, other := len(servers) > 0, false
	for _, a := range servers {
		told = told && a.Answer == evidence.Positive && SameSet(a.NS, now.Set)
		other = other || a.Answer == evidence.Positive && !SameSet(a.NS, now.Set)
	}
	switch {
	case other: // one that does not answer any more names nobody
		f.Told = time.Time{}
	case told && f.Told.IsZero():
		f.Told = s.Ended
	}
	same := agreed(servers)
	for _, set := range now.Sets {
		matches := slices.ContainsFunc(same, func(o evidence.Observed) bool { return o.Key == set.Key && evidence.SameAnswer(o, set.Observed) })
		at := slices.IndexFunc(f.Matched, func(m MatchedSet) bool { return m.Key == set.Key })
		if matches && at < 0 {
			f.Matched = append(f.Matched, MatchedSet{set.Key, s.Ended})
		} else if !matches && at >= 0 {
			f.Matched = slices.Delete(f.Matched, at, at+1)
		}
	}
}
