package delegation

import (
	"maps"
	"net/netip"
	"slices"
	"time"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/evidence"
	"beacon/core/record"
	"beacon/core/wording"
)

// DSState is what the parents say of the domain's keys, and since when.
type DSState struct {
	Text    string     `json:"text"`    // the DS records in one line; empty for none
	TTL     TTLs       `json:"ttl"`     // how long caches hold what is active: the DS set, or that there is none
	Known   bool       `json:"known"`   // the parents were heard about it
	Changed time.Time  `json:"changed"` // first complete sweep with it, after another was seen
	Was     string     `json:"was"`
	Held    uint32     `json:"held"`           // how long caches may hold what was before
	Back    bool       `json:"back,omitempty"` // some parent serves again what was taken out or changed
	Partly  []PartlyDS `json:"partly,omitempty"`
}

// PartlyDS is a DS set that was heard from some parents, since all of them were last heard to say the same. Caches may hold it.
type PartlyDS struct {
	Text string `json:"text"`
	Held uint32 `json:"held"` // its TTL, seconds
}

// observeDS notices that DS records came, went or changed, once all parents say the same. What only some say is kept until then.
func (h *History) observeDS(s evidence.Sweep) {
	if s.Brief {
		return
	}
	_, complete := parentSet(s)
	text, first := "", true
	ttl := uint32(0)
	for _, p := range s.Parents {
		if p.Answer != evidence.Referral || !p.AskedDS && len(s.Anchors) == 0 {
			complete = false // not asked is not none
			continue
		}
		said, held := dsText(p.DS.DS()), dsTTL(p.DS)
		complete = complete && (first || said == text)
		text, first, ttl = said, false, max(ttl, held)
		h.DS.regressed(said, held, lastReceipt(s))
		if said != "" && (!h.DS.Known || said != h.DS.Text) {
			h.DS.partly(said, held)
		}
	}
	if complete && !first {
		h.DS = h.DS.agreed(text, ttl, lastReceipt(s))
	}
}

// agreed returns the state once all parents have said the same at a moment.
func (d DSState) agreed(text string, ttl uint32, at time.Time) DSState {
	next := DSState{Text: text, TTL: TTLs{}.Seen(ttl, at), Known: true}
	was, held := "", uint32(0) // what was there for a time, at some
	for _, p := range d.Partly {
		if p.Text != text {
			was, held = p.Text, max(held, p.Held)
		}
	}
	switch {
	case d.Known && d.Text != text:
		next.Changed, next.Was, next.Held = at, d.Text, max(d.TTL.At(at), held)
	case was != "":
		next.Changed, next.Was, next.Held = at, was, held
	case d.Known:
		next.Changed, next.Was, next.Held = d.Changed, d.Was, d.Held
	}
	if d.Known && d.Text == text {
		next.TTL = d.TTL.Seen(ttl, at)
		if !d.Changed.IsZero() && (was != "" || d.Back) { // it was there again: the wait begins again
			next.Changed, next.Held = at, max(next.Held, d.Held)
		}
	}
	return next
}

// mostPartly bounds how many sets are kept that only some parents served.
const mostPartly = 8

// partly keeps a set that a parent serves, and that not all are known to serve.
func (d *DSState) partly(text string, held uint32) {
	d.Partly = slices.Clone(d.Partly)
	if i := slices.IndexFunc(d.Partly, func(p PartlyDS) bool { return p.Text == text }); i >= 0 {
		d.Partly[i].Held = max(d.Partly[i].Held, held)
	} else if len(d.Partly) < mostPartly {
		d.Partly = append(d.Partly, PartlyDS{text, held})
	}
}

// dsTTL returns the largest TTL of a DS answer, or of what says that there is none.
func dsTTL(list dnssec.Records) (ttl uint32) {
	for _, rr := range list {
		if rr.Header().Rrtype != dns.TypeRRSIG {
			ttl = max(ttl, rr.Header().Ttl)
		}
	}
	return ttl
}

// regressed begins the wait again where a parent serves again what was before.
func (d *DSState) regressed(said string, held uint32, at time.Time) {
	if d.Changed.IsZero() || said != d.Was || said == d.Text {
		return
	}
	d.Changed, d.Back, d.Held = at, true, max(d.Held, held)
}

// moment: DS taken out or changed, first sweep with that + its full TTL; put in, + the time for which its absence is held.
func (d DSState) moment(domain string) (Moment, bool) {
	if d.Changed.IsZero() {
		return Moment{}, false
	}
	why := "the DS records were changed; caches may hold the old ones for "
	switch {
	case d.Text == "":
		why = "the DS records were removed; caches may hold them for "
	case d.Was == "":
		why = "DS records were put in; caches may hold that there are none for "
	}
	by := d.Changed.Add(seconds(d.Held))
	return Moment{What: "dnssec", Subject: domain, Since: d.Changed, By: by, Likely: by, Why: why + wording.Seconds(d.Held)}, true
}

// Host is a nameserver within the domain, whose addresses stand at the parent (glue) and in the zone.
type Host struct {
	Name  dnsname.Name `json:"name"`
	Glue  Placed       `json:"glue"`
	Own   Placed       `json:"own"`
	Moved bool         `json:"moved"` // one of the two was seen to change
}

// Placed is the addresses of a host in one place, and when they last changed there.
type Placed struct {
	Addresses []netip.Addr `json:"addresses,omitempty"`
	TTL       uint32       `json:"ttl"`
	Changed   time.Time    `json:"changed"`
	Held      uint32       `json:"held"` // the TTL of what was before
}

func (p Placed) now(addrs []netip.Addr, ttl uint32, at time.Time) (Placed, bool) {
	switch {
	case len(addrs) == 0:
		return p, false
	case len(p.Addresses) == 0:
		return Placed{Addresses: addrs, TTL: ttl}, false
	case slices.Equal(p.Addresses, addrs):
		p.TTL = max(p.TTL, ttl)
		return p, false
	}
	return Placed{Addresses: addrs, TTL: ttl, Changed: at, Held: p.TTL}, true
}

// observeHosts notices new addresses of nameservers that keep their names.
func (h *History) observeHosts(s evidence.Sweep) {
	if _, complete := parentSet(s); !complete || s.Brief {
		return
	}
	hosts := slices.DeleteFunc(slices.Clone(h.Hosts), func(o Host) bool { return !slices.Contains(h.Current.Set, o.Name) })
	for _, name := range h.Current.Set {
		if !name.IsAtOrBelow(s.Domain) {
			continue
		}
		at := slices.IndexFunc(hosts, func(o Host) bool { return o.Name == name })
		if at < 0 {
			hosts = append(hosts, Host{Name: name})
			at = len(hosts) - 1
		}
		host := hosts[at]
		var moved, own bool
		if list, ttl, same := glueOf(s, name); same {
			host.Glue, moved = host.Glue.now(list, ttl, lastReceipt(s))
		}
		if list, ttl, same := ownAddresses(s, name); same {
			host.Own, own = host.Own.now(list, ttl, s.Ended)
		}
		host.Moved = host.Moved || moved || own
		hosts[at] = host
	}
	h.Hosts = hosts
}

// glueOf returns the addresses that all parents give for a name.
func glueOf(s evidence.Sweep, name dnsname.Name) (list []netip.Addr, ttl uint32, same bool) {
	for i, p := range s.Parents {
		var own []netip.Addr
		for _, g := range p.Glue {
			if g.Name == name {
				own, ttl = g.Addresses, max(ttl, g.TTL)
			}
		}
		if i > 0 && !slices.Equal(own, list) {
			return nil, 0, false
		}
		list = own
	}
	return list, ttl, true
}

// ownAddresses returns the addresses that all servers active give for a name.
func ownAddresses(s evidence.Sweep, name dnsname.Name) (list []netip.Addr, ttl uint32, same bool) {
	for _, a := range s.Servers {
		if a.Answer != evidence.Positive {
			continue
		}
		for _, g := range a.Hosts {
			if g.Name != name {
				continue
			}
			if list != nil && !slices.Equal(g.Addresses, list) {
				return nil, 0, false
			}
			list, ttl = g.Addresses, max(ttl, g.TTL)
		}
	}
	return list, ttl, list != nil
}

// moment is max(Tg+Pglue, min(Ta, Tg+Pglue)+Raddr); where one of the two never changed, the other alone counts.
func (o Host) moment() (Moment, bool) {
	if !o.Moved || o.Glue.Changed.IsZero() && o.Own.Changed.IsZero() {
		return Moment{}, false
	}
	subject := o.Name.String()
	if o.Glue.Changed.IsZero() { // the parents still lead to the old address: nothing ends that but a change there
		by := o.Own.Changed.Add(seconds(o.Own.Held))
		return Moment{What: "address", Subject: subject, Since: o.Own.Changed, By: by, Likely: by,
			Why:    "its address was changed in the zone; caches may hold the old one for " + wording.Seconds(o.Own.Held),
			Except: "who learns the address from the parent still gets the old one, until the glue is changed at the registrar"}, true
	}
	parent := o.Glue.Changed.Add(seconds(o.Glue.Held))
	by, held := parent, o.Own.Held
	if !o.Own.Changed.IsZero() {
		last := parent
		if o.Own.Changed.Before(parent) {
			last = o.Own.Changed
		}
		if child := last.Add(seconds(held)); child.After(by) {
			by = child
		}
	}
	return Moment{What: "address", Subject: subject, Since: o.Glue.Changed, By: by, Likely: parent,
		Why: "its glue was changed at the parents; caches may hold the old address for " + wording.Seconds(o.Glue.Held) + " from there, and " + wording.Seconds(held) + " from the zone"}, true
}

// observeSerials remembers which copy of the zone each server has.
func (h *History) observeSerials(s evidence.Sweep) {
	servers := evidence.ServersOf(s, h.Current.Set)
	serials, apart := make(map[string]uint32, len(servers)), false
	first, any := uint32(0), false
	for i := range servers {
		a := &servers[i]
		if a.Answer != evidence.Positive {
			continue
		}
		serials[a.Address] = a.SOA.Serial
		apart = apart || any && a.SOA.Serial != first
		first, any = a.SOA.Serial, true
	}
	if !any {
		return
	}
	switch {
	case !apart:
		h.SkewSince = time.Time{}
	case h.SkewSince.IsZero() || !h.skewed():
		h.SkewSince = s.Ended
	}
	h.Serials, h.before = serials, h.Serials
}

// skewed reports whether the last sweep's serials differed.
func (h *History) skewed() bool {
	first, any := uint32(0), false
	for _, n := range h.Serials {
		if any && n != first {
			return true
		}
		first, any = n, true
	}
	return false
}

// serialBefore is what a server had in the sweep before.
func (h History) serialBefore(s evidence.Server) (uint32, bool) {
	n, ok := h.before[s.Address]
	return n, ok
}

// observeResolvers notes how each resolver follows the change that was last: when it was last seen with something old, when
// first with nothing old, and what was predicted.
func (h *History) observeResolvers(s evidence.Sweep) {
	if h.Former == nil && len(h.Edits) == 0 || h.Since.IsZero() {
		return
	}
	h.Follow = maps.Clone(h.Follow)
	if h.Follow == nil {
		h.Follow = map[string]Following{}
	}
	for _, r := range s.Resolvers {
		f, at := h.Follow[r.Name], r.At
		if sees := h.seesInAll(r); len(f.Marks) == 0 || f.Marks[len(f.Marks)-1].Sees != sees {
			f.Marks = append(slices.Clone(f.Marks), Mark{at, sees})
			f.Marks = f.Marks[max(0, len(f.Marks)-mostMarks):]
		}
		old, known := h.holdsOld(r)
		switch {
		case r.Problem != "" || !known:
		case old:
			predicted := h.predict(r)
			f.LastOld, f.FirstNew, f.Predicted = &at, nil, &predicted
		case f.FirstNew == nil:
			f.FirstNew = &at
		}
		h.Follow[r.Name] = f
	}
}

// mostMarks is how many changes of mind of one resolver are remembered.
const mostMarks = 60

// seesInAll is a resolver's view in a word, for the picture of settling.
func (h History) seesInAll(r evidence.ResolverAnswer) string {
	if r.Problem != "" {
		return "silent"
	}
	delegation := h.sees(r)
	if delegation == "old" {
		return "old"
	}
	held, known := false, delegation == "new" || delegation == "current"
	for _, v := range h.setViews(r) {
		if v.Sees == "mixed" {
			return "mixed"
		}
		held = held || v.Sees == "old"
		known = known || v.Sees == "new" || v.Sees == "current"
	}
	switch {
	case held:
		return "held"
	case known:
		return "new"
	}
	return "unknown"
}

// holdsOld reports whether a resolver shows anything old.
func (h History) holdsOld(r evidence.ResolverAnswer) (old, known bool) {
	switch h.sees(r) {
	case "old":
		return true, true
	case "new", "current":
		known = true
	}
	for _, v := range h.setViews(r) {
		switch v.Sees {
		case "old", "mixed":
			return true, true
		case "new", "current":
			known = true
		}
	}
	return false, known
}

// whole is how inexact caches' times are: they count in whole seconds, at both ends.
const whole = 2 * time.Second

// predict estimates from what a resolver holds when it will have let go of all that is old. While its delegation is old, what runs out is
// fetched again from the old servers, with the whole TTL.
func (h History) predict(r evidence.ResolverAnswer) time.Time {
	until := r.At
	stays := r.At // how long old answers can still be fetched
	if h.sees(r) == "old" && h.Former != nil {
		bound, _ := h.delegationBound()
		stays = bound
		for _, likely := range []time.Time{h.likelyDelegation(bound), h.Since.Add(seconds(h.Former.P.At(h.Since)))} {
			if r.At.Before(likely.Add(whole)) && likely.Before(stays) { // one that is past what is likely is of another kind
				stays = likely
				break
			}
		}
		if stays.Before(r.At) {
			stays = r.At
		}
		until = stays
	}
	for _, v := range h.setViews(r) {
		if v.Sees != "old" && v.Sees != "mixed" {
			continue
		}
		gone, last := r.At.Add(seconds(v.TTL)), stays
		if at, matched := h.matchedAt(v.Key); matched && at.Before(last) {
			last = at
		}
		// TTLs are whole seconds: what runs out in the second in which the delegation does is fetched from the new servers.
		if ttl := seconds(h.oldTTL(v.Key)); ttl > 0 && gone.Before(last.Add(-time.Second)) {
			gone = gone.Add((last.Sub(gone) - time.Second + ttl - 1) / ttl * ttl)
		}
		if gone.After(until) {
			until = gone
		}
	}
	return until
}

func (h History) matchedAt(k record.Key) (time.Time, bool) {
	if h.Former != nil {
		for _, m := range h.Former.Matched {
			if m.Key == k {
				return m.At, true
			}
		}
	}
	return time.Time{}, false
}

// oldTTL is how long a cache holds an old answer for a set.
func (h History) oldTTL(k record.Key) (ttl uint32) {
	for _, old := range h.oldAnswers(k) {
		if old.Answer == evidence.Positive {
			ttl = max(ttl, old.TTL)
		} else {
			ttl = max(ttl, old.n)
		}
	}
	return ttl
}

// oldAnswer is what a set was, and the negative TTL then.
type oldAnswer struct {
	Kept
	n uint32
}

// oldAnswers returns what a set was before the changes that were last: at the servers active, and at those before.
func (h History) oldAnswers(k record.Key) (list []oldAnswer) {
	for _, e := range h.Edits {
		if e.Before.Key == k {
			list = append(list, oldAnswer{e.Before, e.N})
		}
	}
	if h.Former != nil {
		for _, o := range h.Former.Sets {
			if o.Key == k {
				list = append(list, oldAnswer{o, h.Former.N.At(h.Since)})
			}
		}
	}
	return list
}
