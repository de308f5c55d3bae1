package practice

import (
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
)

// habit is what makes caching resolvers differ.
type habit struct {
	followsChild bool          // prefers the NS set that the zone itself gives to the parent's (RFC 2181 section 5.4.1)
	clings       bool          // with followsChild: asks the servers it has for their NS set again, and the parent only when none of them answers
	capTTL       uint32        // never caches for longer; 0 for no cap
	stale        time.Duration // how long after its end an answer is still given where no server answers (RFC 8767); 0 for never
	validates    bool          // judges signatures (RFC 4035 section 5); validate.go
}

// Resolver is a caching resolver of the world, as a list of resolvers to ask would name it.
type Resolver struct {
	Name    string
	Address string
}

// Resolvers returns the three resolvers that everybody uses.
func (w *World) Resolvers() []Resolver { return w.list(0, 3) }

// OddResolvers returns three that are met more seldom: one that never leaves the old servers as long as they answer, one that serves stale answers,
// and one that validates.
func (w *World) OddResolvers() []Resolver { return w.list(3, 6) }

func (w *World) list(from, to int) []Resolver {
	var out []Resolver
	for _, r := range w.resolvers()[from:to] {
		out = append(out, Resolver{r.name, w.DNSAddress(r.site)})
	}
	return out
}

func (w *World) resolvers() []*resolver {
	habitual := func(name, site string, h habit) *resolver {
		return &resolver{world: w, name: name, site: site, habit: h, sets: map[setKey]cached{}, parent: map[string]cached{}, child: map[string]cached{}}
	}
	return []*resolver{
		habitual("harbour", "8.1", habit{}),
		habitual("lighthouse", "8.2", habit{followsChild: true}),
		habitual("dinghy", "8.3", habit{capTTL: 300}),
		habitual("limpet", "8.4", habit{followsChild: true, clings: true}),
		habitual("ebb", "8.5", habit{stale: staleFor}),
		habitual("sextant", "8.6", habit{validates: w.opt.Signed}),
	}
}

// What serves stale does so for a day, with this TTL in seconds (RFC 8767 section 4).
const (
	staleFor = 24 * time.Hour
	staleTTL = 30
)

type setKey struct {
	name  string
	qtype uint16
}

// cached is a message's sections or an NS set, until it expires in world time.
type cached struct {
	answer  []dns.RR
	ns      []dns.RR
	rcode   int
	proof   []dns.RR // signatures, and what shows that something is not there
	stored  time.Time
	expires time.Time
}

func (c cached) live(now time.Time) bool { return now.Before(c.expires) }

// aged returns records with what remains of their TTLs.
func aged(rrs []dns.RR, stored, now time.Time) []dns.RR {
	out := make([]dns.RR, len(rrs))
	passed := uint32(now.Sub(stored) / time.Second)
	for i, rr := range rrs {
		out[i] = dns.Copy(rr)
		out[i].Header().Ttl -= min(passed, rr.Header().Ttl)
	}
	return out
}

type resolver struct {
	world  *World
	name   string
	site   string
	habit  habit
	mu     sync.Mutex
	sets   map[setKey]cached
	parent map[string]cached // NS sets from referrals, by zone
	child  map[string]cached // NS sets that zones give of themselves
}

// ServeDNS answers recursive questions from the cache, and fills the cache by asking from the root down.
func (r *resolver) ServeDNS(rw dns.ResponseWriter, q *dns.Msg) {
	m := new(dns.Msg).SetReply(q)
	m.RecursionAvailable = true
	failed := false // in validation
	if len(q.Question) != 1 {
		m.Rcode = dns.RcodeFormatError
	} else {
		name, qtype := dns.CanonicalName(q.Question[0].Name), q.Question[0].Qtype
		m.AuthenticatedData = r.habit.validates
		for range 8 {
			got := r.lookup(name, qtype, 0)
			now := r.world.clock.now()
			if c, ok := r.expired(name, qtype, now); ok && got.rcode == dns.RcodeServerFailure {
				got = c
			}
			if r.habit.validates && !q.CheckingDisabled && got.rcode != dns.RcodeServerFailure {
				state := r.judge(name, qtype, got)
				if m.AuthenticatedData = m.AuthenticatedData && state == secure; state == bogus {
					m.Answer, m.Ns, m.Rcode, failed = nil, nil, dns.RcodeServerFailure, true
					break
				}
			}
			m.Rcode = got.rcode
			m.Answer = append(m.Answer, aged(got.answer, got.stored, now)...)
			m.Ns = aged(got.ns, got.stored, now)
			last := len(m.Answer) - 1
			if last < 0 || qtype == dns.TypeCNAME || m.Answer[last].Header().Rrtype != dns.TypeCNAME {
				break
			}
			name = dns.CanonicalName(m.Answer[last].(*dns.CNAME).Target)
		}
	}
	if m.AuthenticatedData = m.AuthenticatedData && m.Rcode != dns.RcodeServerFailure; failed && q.IsEdns0() != nil {
		m.SetEdns0(1232, q.IsEdns0().Do())
		m.IsEdns0().Option = append(m.IsEdns0().Option, &dns.EDNS0_EDE{InfoCode: dns.ExtendedErrorCodeDNSBogus})
	}
	reply(rw, q, m)
}

// expired returns an answer that has ended and may still be given where no server answers.
func (r *resolver) expired(name string, qtype uint16, now time.Time) (cached, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	c, ok := r.sets[setKey{name, qtype}]
	if !ok || now.Sub(c.expires) > r.habit.stale {
		return cached{}, false
	}
	for _, section := range []*[]dns.RR{&c.answer, &c.ns} {
		*section = aged(*section, now, now)
		for _, rr := range *section {
			rr.Header().Ttl = staleTTL
		}
	}
	c.stored = now
	return c, true
}

// lookup returns one link of the answer: a set, a CNAME, or the reason why there is none.
func (r *resolver) lookup(name string, qtype uint16, depth int) cached {
	now := r.world.clock.now()
	r.mu.Lock()
	for _, t := range []uint16{qtype, dns.TypeCNAME} {
		if c, ok := r.sets[setKey{name, t}]; ok && c.live(now) && (t == qtype || len(c.answer) > 0) {
			r.mu.Unlock()
			return c
		}
	}
	r.mu.Unlock()
	if depth > 12 {
		return cached{rcode: dns.RcodeServerFailure}
	}
	for range 12 {
		from := name
		if at, end := dns.NextLabel(name, 0); qtype == dns.TypeDS && !end {
			from = name[at:] // the parent's (RFC 4035 section 3.1.4.1)
		} else if qtype == dns.TypeDS {
			from = "."
		}
		zone, servers := r.closest(from, depth)
		m := r.ask(servers, name, qtype, depth)
		switch {
		case m == nil || m.Rcode != dns.RcodeSuccess && m.Rcode != dns.RcodeNameError:
			return cached{rcode: dns.RcodeServerFailure}
		case m.Authoritative:
			return r.store(name, qtype, m)
		case !r.learn(zone, name, m):
			return cached{rcode: dns.RcodeServerFailure}
		}
	}
	return cached{rcode: dns.RcodeServerFailure}
}

// closest finds the deepest zone whose servers are known for name.
func (r *resolver) closest(name string, depth int) (zone string, servers []dns.RR) {
	for at, end := 0, name == "."; !end; at, end = dns.NextLabel(name, at) {
		if ns := r.known(name[at:], depth); ns != nil {
			return name[at:], ns
		}
	}
	return ".", nil
}

// known returns the NS set in use for a zone: the child's where this resolver prefers that, else the parent's.
func (r *resolver) known(zone string, depth int) []dns.RR {
	now := r.world.clock.now()
	r.mu.Lock()
	parent, child := r.parent[zone], r.child[zone]
	r.mu.Unlock()
	switch {
	case r.habit.followsChild && child.live(now):
		return child.ns
	case r.habit.clings && child.ns != nil && depth <= 4:
		if m := r.ask(child.ns, zone, dns.TypeNS, depth+1); m != nil && m.Authoritative && len(m.Answer) > 0 {
			r.mu.Lock()
			defer r.mu.Unlock()
			r.child[zone] = r.timed(cached{ns: m.Answer}, m.Answer)
			return r.child[zone].ns
		}
	}
	switch {
	case !parent.live(now):
		return nil
	case !r.habit.followsChild || depth > 4:
		return parent.ns
	}
	m := r.ask(parent.ns, zone, dns.TypeNS, depth+1)
	if m == nil || !m.Authoritative || len(m.Answer) == 0 {
		return parent.ns
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.child[zone] = r.timed(cached{ns: m.Answer}, m.Answer)
	return r.child[zone].ns
}

// learn takes a referral to a zone below; false where the answer is none.
func (r *resolver) learn(zone, name string, m *dns.Msg) bool {
	var set []dns.RR
	for _, rr := range m.Ns {
		if rr.Header().Rrtype == dns.TypeNS {
			set = append(set, rr)
		}
	}
	if len(set) == 0 {
		return false
	}
	below := dns.CanonicalName(set[0].Header().Name)
	if below == zone || !dns.IsSubDomain(zone, below) || !dns.IsSubDomain(below, name) {
		return false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.parent[below] = r.timed(cached{ns: set}, set)
	for _, rr := range m.Extra {
		if a, ok := rr.(*dns.A); ok && dns.IsSubDomain(zone, dns.CanonicalName(a.Hdr.Name)) {
			r.sets[setKey{dns.CanonicalName(a.Hdr.Name), dns.TypeA}] = r.timed(cached{answer: []dns.RR{a}}, []dns.RR{a})
		}
	}
	return true
}

// store caches one link of an authoritative answer, a negative one by its SOA (RFC 2308 section 5).
func (r *resolver) store(name string, qtype uint16, m *dns.Msg) cached {
	c := cached{rcode: m.Rcode}
	key := setKey{name, qtype}
	for _, rr := range m.Answer {
		h := rr.Header()
		if dns.CanonicalName(h.Name) == name && (h.Rrtype == qtype || h.Rrtype == dns.TypeCNAME) {
			c.answer = append(c.answer, rr)
			key.qtype = h.Rrtype
		}
	}
	for _, rr := range append(slices.Clone(m.Answer), m.Ns...) {
		if t := rr.Header().Rrtype; t == dns.TypeRRSIG || t == dns.TypeNSEC {
			c.proof = append(c.proof, rr)
		}
	}
	if len(c.answer) == 0 {
		for _, rr := range m.Ns {
			if rr.Header().Rrtype == dns.TypeSOA {
				c.ns = append(c.ns, rr)
			}
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	c = r.timed(c, append(append([]dns.RR(nil), c.answer...), c.ns...))
	r.sets[key] = c
	return c
}

// timed sets when an entry expires, by the least TTL among rrs and the resolver's cap.
func (r *resolver) timed(c cached, rrs []dns.RR) cached {
	ttl := uint32(0)
	for i, rr := range rrs {
		if r.habit.capTTL > 0 {
			rr.Header().Ttl = min(rr.Header().Ttl, r.habit.capTTL)
		}
		if i == 0 || rr.Header().Ttl < ttl {
			ttl = rr.Header().Ttl
		}
	}
	c.stored = r.world.clock.now()
	c.expires = c.stored.Add(time.Duration(ttl) * time.Second)
	return c
}

// ask puts the question to the servers in turn until one gives an answer; no servers means the root's.
func (r *resolver) ask(servers []dns.RR, name string, qtype uint16, depth int) *dns.Msg {
	addresses := []string{r.world.DNSAddress(rootNorth), r.world.DNSAddress(rootSouth)}
	if servers != nil {
		addresses = r.addresses(servers, depth)
	}
	q := new(dns.Msg).SetQuestion(name, qtype)
	q.RecursionDesired = false
	q.SetEdns0(1232, r.habit.validates)
	var last *dns.Msg
	for _, address := range addresses {
		client := dns.Client{Timeout: time.Second}
		m, _, err := client.Exchange(q, address)
		if err == nil && m.Truncated {
			client.Net = "tcp"
			m, _, err = client.Exchange(q, address)
		}
		if err != nil {
			continue
		}
		if last = m; m.Rcode == dns.RcodeSuccess || m.Rcode == dns.RcodeNameError {
			return m
		}
	}
	return last
}

func (r *resolver) addresses(servers []dns.RR, depth int) []string {
	var out []string
	for _, rr := range servers {
		ns, ok := rr.(*dns.NS)
		if !ok {
			continue
		}
		for _, a := range r.lookup(dns.CanonicalName(ns.Ns), dns.TypeA, depth+1).answer {
			if a, ok := a.(*dns.A); ok && strings.HasPrefix(a.A.String(), "127.") {
				_, port, _ := net.SplitHostPort(r.world.DNSAddress(rootNorth))
				out = append(out, net.JoinHostPort(a.A.String(), port))
			}
		}
	}
	return out
}
