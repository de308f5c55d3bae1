package resolve

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"net/netip"
	"slices"
	"time"

	"github.com/miekg/dns"
	"golang.org/x/sync/errgroup"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/record"
)

// atOnce is how many questions of one sweep are on their way at a time.
const atOnce = 24

// probeType is a type of the private range (RFC 6895 section 3.1): no zone has it, so a question for it never caches
// an absence that matters.
const probeType = 65400

// Resolver is a caching resolver to ask.
type Resolver struct {
	Name    string `yaml:"name"`
	Address string `yaml:"address"` // IP address and port
}

// Sweeper makes sweeps. It is safe for concurrent use.
type Sweeper struct {
	Client    *Client
	Hints     Hints
	Port      uint16 // that nameservers answer on
	Resolvers []Resolver
	Now       func() time.Time // world time
}

// Scope says what a sweep looks at beside the delegation itself.
type Scope struct {
	Nameservers []dnsname.Name // to be asked though the parents do not name them: wanted ones, old ones
	Watched     []record.Key   // record sets, which must exist somewhere already
}

// Sweep asks every parent server, every address of every nameserver, and every resolver about domain. It always gives
// evidence; what could not be asked is said in it.
func (s *Sweeper) Sweep(ctx context.Context, domain dnsname.Name, scope Scope) delegation.Sweep {
	out := delegation.Sweep{Domain: domain, Began: s.Now()}
	w := newWalk(s.Client, s.Hints, s.Port)
	zone, parents, err := w.parentOf(ctx, domain, 0)
	if err != nil {
		out.Failure, out.Ended = err.Error(), s.Now()
		return out
	}
	out.Zone = zone
	out.Parents = make([]delegation.ParentAnswer, len(parents))
	inParallel(len(parents), func(i int) { out.Parents[i] = s.askParent(ctx, w, parents[i], domain) })

	names := slices.Clone(scope.Nameservers)
	for _, p := range out.Parents {
		names = append(names, p.NS...)
	}
	out.Servers, out.NoAddress = s.askServers(ctx, w, domain, dnsname.SortSet(names), scope.Watched)
	out.Resolvers = make([]delegation.ResolverAnswer, len(s.Resolvers))
	inParallel(len(s.Resolvers), func(i int) { out.Resolvers[i] = s.askResolver(ctx, s.Resolvers[i], domain, scope.Watched) })
	out.Ended = s.Now()
	if ctx.Err() != nil {
		out.Failure = "the check was broken off: " + ctx.Err().Error()
	}
	return out
}

// Servers gives the addresses of nameservers, found by walking from the root, and the names that lead to none.
func (s *Sweeper) Servers(ctx context.Context, names []dnsname.Name) ([]delegation.Server, []delegation.NameProblem) {
	return addressesOf(ctx, newWalk(s.Client, s.Hints, s.Port), names)
}

// inParallel calls do for 0 to n-1, a bounded number at a time, and waits.
func inParallel(n int, do func(int)) {
	var group errgroup.Group
	group.SetLimit(atOnce)
	for i := range n {
		group.Go(func() error { do(i); return nil })
	}
	_ = group.Wait()
}

func addressesOf(ctx context.Context, w *walk, names []dnsname.Name) (servers []delegation.Server, problems []delegation.NameProblem) {
	found := make([][]delegation.Server, len(names))
	why := make([]string, len(names))
	inParallel(len(names), func(i int) { found[i], why[i] = w.address(ctx, names[i], 1) })
	for i, name := range names {
		servers = append(servers, found[i]...)
		if len(found[i]) == 0 {
			problems = append(problems, delegation.NameProblem{Name: name, Problem: why[i]})
		}
	}
	return servers, problems
}

// askParent asks one parent server for the delegation.
func (s *Sweeper) askParent(ctx context.Context, w *walk, server delegation.Server, domain dnsname.Name) delegation.ParentAnswer {
	m, err := w.ask(ctx, server, Question{Name: domain.String(), Type: dns.TypeNS})
	a := delegation.ParentAnswer{Server: server, At: s.Now()}
	switch {
	case err != nil:
		a.Answer, a.Problem = delegation.Silent, err.Error()
	case m.Rcode == dns.RcodeNameError:
		a.Answer, a.Negative = delegation.NoName, negativeTTL(m)
	case m.Rcode != dns.RcodeSuccess:
		a.Answer, a.Problem = delegation.Lame, dns.RcodeToString[m.Rcode]
	default:
		// A server that is authoritative for both sides of the cut answers from the child's side.
		for _, rr := range append(slices.Clone(m.Ns), m.Answer...) {
			ns, ok := rr.(*dns.NS)
			if owner, err := dnsname.Parse(rr.Header().Name); !ok || err != nil || owner != domain {
				continue
			}
			if target, err := dnsname.Parse(ns.Ns); err == nil {
				a.Answer, a.TTL = delegation.Referral, max(a.TTL, ns.Hdr.Ttl)
				a.NS = append(a.NS, target)
			}
		}
		if a.NS = dnsname.SortSet(a.NS); len(a.NS) == 0 {
			a.Answer, a.Negative = delegation.NoData, negativeTTL(m)
		}
	}
	return a
}

// soaIn reads the SOA record of a section, with the negative TTL of RFC 2308 section 5.
func soaIn(section []dns.RR) (delegation.SOA, dnsname.Name, bool) {
	for _, rr := range section {
		soa, ok := rr.(*dns.SOA)
		if !ok {
			continue
		}
		owner, err := dnsname.Parse(soa.Hdr.Name)
		primary, err2 := dnsname.Parse(soa.Ns)
		contact, err3 := dnsname.Parse(soa.Mbox)
		if err == nil && err2 == nil && err3 == nil {
			return delegation.SOA{Primary: primary, Contact: contact, Serial: soa.Serial, Negative: min(soa.Hdr.Ttl, soa.Minttl)}, owner, true
		}
	}
	return delegation.SOA{}, dnsname.Name{}, false
}

func negativeTTL(m *dns.Msg) uint32 {
	soa, _, _ := soaIn(m.Ns)
	return soa.Negative
}

func (s *Sweeper) askServers(ctx context.Context, w *walk, domain dnsname.Name, names []dnsname.Name, watched []record.Key) ([]delegation.ServerAnswer, []delegation.NameProblem) {
	servers, problems := addressesOf(ctx, w, names)
	answers := make([]delegation.ServerAnswer, len(servers))
	inParallel(len(servers), func(i int) { answers[i] = s.askServer(ctx, w, servers[i], domain, watched) })
	return answers, problems
}

// askServer asks one nameserver address for the zone's SOA, its NS set and the watched sets, and for the SOA over TCP.
func (s *Sweeper) askServer(ctx context.Context, w *walk, server delegation.Server, domain dnsname.Name, watched []record.Key) delegation.ServerAnswer {
	a := delegation.ServerAnswer{Server: server}
	m, err := w.ask(ctx, server, Question{Name: domain.String(), Type: dns.TypeSOA})
	a.At = s.Now()
	if err != nil {
		a.Answer, a.Problem = delegation.Silent, err.Error()
		return a
	}
	soa, owner, found := soaIn(m.Answer)
	switch {
	case m.Rcode != dns.RcodeSuccess:
		a.Problem = dns.RcodeToString[m.Rcode]
	case !m.Authoritative:
		a.Problem = "its answer is not authoritative"
	case !found || owner != domain:
		a.Problem = "it gives no SOA record for the zone"
	}
	if a.Problem != "" {
		a.Answer = delegation.Lame
		return a
	}
	a.Answer, a.SOA = delegation.Positive, soa
	if m, err := w.ask(ctx, server, Question{Name: domain.String(), Type: dns.TypeNS}); err == nil && m.Authoritative {
		for _, rr := range m.Answer {
			if ns, ok := rr.(*dns.NS); ok {
				if target, err := dnsname.Parse(ns.Ns); err == nil {
					a.NS, a.NSTTL = append(a.NS, target), max(a.NSTTL, ns.Hdr.Ttl)
				}
			}
		}
		a.NS = dnsname.SortSet(a.NS)
	}
	for _, key := range watched {
		a.Sets = append(a.Sets, observe(ctx, w.ask, server, key, false))
	}
	at, _ := netip.ParseAddrPort(server.Address)
	if _, err := s.Client.AskTCP(ctx, at, Question{Name: domain.String(), Type: dns.TypeSOA}); err != nil {
		a.NoTCP = err.Error()
	}
	return a
}

// AskSet asks one nameserver for one record set.
func (s *Sweeper) AskSet(ctx context.Context, server delegation.Server, key record.Key) delegation.Observed {
	return observe(ctx, s.askOnce, server, key, false)
}

func (s *Sweeper) askOnce(ctx context.Context, server delegation.Server, q Question) (*dns.Msg, error) {
	at, err := netip.ParseAddrPort(server.Address)
	if err != nil {
		return nil, err
	}
	return s.Client.Ask(ctx, at, q)
}

// observe asks for a set and reads the whole chain of the answer: the data at its end, or the last CNAME where it
// leads elsewhere, and the least TTL on the way.
func observe(ctx context.Context, ask func(context.Context, delegation.Server, Question) (*dns.Msg, error), server delegation.Server, key record.Key, recurse bool) delegation.Observed {
	o := delegation.Observed{Key: key}
	m, err := ask(ctx, server, Question{Name: key.Name.String(), Type: uint16(key.Type), Recurse: recurse})
	switch {
	case err != nil:
		o.Answer = delegation.Silent
		return o
	case m.Rcode == dns.RcodeNameError:
		o.Answer = delegation.NoName
		return o
	case m.Rcode != dns.RcodeSuccess || !recurse && !m.Authoritative:
		o.Answer = delegation.Lame
		return o
	}
	var alias []record.Data
	for i, rr := range m.Answer {
		r, err := record.FromRR(rr)
		if err != nil {
			continue
		}
		if i == 0 || r.TTL < o.TTL {
			o.TTL = r.TTL
		}
		if r.Type == key.Type {
			o.Data = append(o.Data, r.Data)
		} else if r.Type == record.CNAME {
			alias = []record.Data{r.Data}
		}
	}
	if o.Answer = delegation.Positive; len(o.Data) == 0 {
		o.Data = alias
	}
	if len(o.Data) == 0 {
		o.Answer = delegation.NoData
	}
	slices.Sort(o.Data)
	return o
}

// askResolver asks a caching resolver without disturbing what it holds: never for NS, and for a random name of a
// private type, whose negative answer shows the SOA of the zone as the resolver reaches it.
func (s *Sweeper) askResolver(ctx context.Context, r Resolver, domain dnsname.Name, watched []record.Key) delegation.ResolverAnswer {
	a := delegation.ResolverAnswer{Name: r.Name, Address: r.Address}
	server := delegation.Server{Address: r.Address}
	var label [8]byte
	_, _ = rand.Read(label[:])
	probe, err := domain.Child("probe-" + hex.EncodeToString(label[:]))
	if err != nil {
		a.At, a.Problem = s.Now(), err.Error()
		return a
	}
	m, err := s.askOnce(ctx, server, Question{Name: probe.String(), Type: probeType, Recurse: true})
	a.At = s.Now()
	switch {
	case err != nil:
		a.Problem = err.Error()
		return a
	case m.Rcode != dns.RcodeSuccess && m.Rcode != dns.RcodeNameError:
		a.Problem = "it answers " + dns.RcodeToString[m.Rcode]
		return a
	}
	if soa, owner, ok := soaIn(m.Ns); ok && owner == domain && len(m.Answer) == 0 {
		a.SOA = &soa
	}
	for _, key := range watched {
		a.Sets = append(a.Sets, observe(ctx, s.askOnce, server, key, true))
	}
	return a
}
