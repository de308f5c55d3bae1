package resolve

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/miekg/dns"
	"golang.org/x/sync/errgroup"

	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/evidence"
	"beacon/core/record"
)

// atOnce is how many questions of one sweep are on their way at a time.
const atOnce = 24

// probeType is a type of the private range (RFC 6895 section 3.1): no zone has it, so a question for it never caches
// an absence that matters.
const probeType = 65400

// Sweeper makes sweeps. It is safe for concurrent use.
type Sweeper struct {
	Client    *Client
	Hints     Hints
	Port      uint16 // that nameservers answer on
	Resolvers []Resolver
	Anchors   dnssec.Records   // none: signatures are not asked for
	Now       func() time.Time // simulated time
}

// Scope returns what a sweep looks at beside the delegation itself.
type Scope struct {
	Nameservers []dnsname.Name                // to be asked though the parents do not name them: wanted ones, old ones
	Hosts       map[dnsname.Name][]netip.Addr // addresses of nameservers within the domain, which nobody serves before it is delegated
	Ours        []dnsname.Name                // nameservers that may be asked whether they resolve, or give zones away, for anybody
	Watched     []record.Key                  // record sets, which must exist somewhere already
	Sites       []dnsname.Name                // names that carry a site: what CAA says of them is asked for as well
	Brief       bool                          // only the delegation, SOA and NS; no resolvers
	Tape        bool                          // keep the raw responses
	Signed      bool                          // ask everybody for signatures, though there is nothing to judge them by
}

// Sweep makes a round of one sweep.
func (s *Sweeper) Sweep(ctx context.Context, domain dnsname.Name, scope Scope) evidence.Sweep {
	return s.NewRound().Sweep(ctx, domain, scope)
}

// Sweep asks every parent server, every address of every nameserver, and every resolver about domain. It always gives
// evidence; what could not be asked is said in it.
func (round *Round) Sweep(ctx context.Context, domain dnsname.Name, scope Scope) (out evidence.Sweep) {
	w := &walk{Round: round}
	if scope.Tape {
		w.tape = &tape{}
	}
	out = evidence.Sweep{Version: evidence.Version, Domain: domain, Began: w.s.Now(), Brief: scope.Brief, Anchors: w.s.Anchors}
	var err error
	if scope.Brief {
		err = w.sweepBriefly(ctx, scope, &out)
	} else {
		err = w.sweepWholly(ctx, scope, &out)
	}
	if err != nil {
		out.Failure = err.Error()
		if b := (brokenZone{}); errors.As(err, &b) {
			out.Broken = b.zone
		}
	}
	w.busy.Wait()
	out.Ended, out.Heard, out.Asked = w.s.Now(), w.tape.all(), int(min(w.asked.Load(), maxQuestions))
	if ctx.Err() != nil {
		out.Failure = "the check was broken off: " + ctx.Err().Error()
	}
	return out
}

// sweepWholly asks everybody everything, as much of it at once as may be.
func (w *walk) sweepWholly(ctx context.Context, scope Scope, out *evidence.Sweep) error {
	caches := make([]cache, len(w.s.Resolvers))
	var resolvers sync.WaitGroup
	resolvers.Go(func() {
		inParallel(len(caches), func(i int) { caches[i] = w.probe(ctx, w.s.Resolvers[i], out.Domain) })
	})
	err := w.sweepServers(ctx, scope, out)
	resolvers.Wait()
	keys := existing(out.Servers, scope.Watched)
	inParallel(len(caches), func(i int) { caches[i].watch(ctx, keys) })
	for _, c := range caches {
		out.Resolvers = append(out.Resolvers, *c.a)
	}
	return err
}

func (w *walk) sweepServers(ctx context.Context, scope Scope, out *evidence.Sweep) error {
	ways, err := w.beginParents(ctx, out, false)
	if err != nil {
		return err
	}
	inParallel(len(ways), func(i int) { out.Parents[i] = w.readParent(ctx, &ways[i], out.Zone, out.Domain) })
	var chain sync.WaitGroup
	var own []dnssec.Records
	if w.s.judgesSignatures() {
		known := slices.Clone(out.Parents)
		chain.Go(func() { out.Chain, own = w.chainOf(ctx, out.Zone, known, out.Domain) })
	}
	out.Servers, out.NoAddress = w.askServers(ctx, out.Domain, namesIn(scope, out.Parents), out.Parents, scope)
	chain.Wait()
	keepOwn(out.Parents, own)
	chain.Go(func() { out.NoPrimary = w.missingPrimary(ctx, out.Servers) })
	w.askForDS(ctx, out)
	chain.Wait()
	return nil
}

// missingPrimary looks for the name that the SOA record has for the primary, and returns it if it does not exist. The root stands for
// none; a nameserver of the zone was looked for before.
func (w *walk) missingPrimary(ctx context.Context, servers []evidence.ServerAnswer) *evidence.NameProblem {
	at := slices.IndexFunc(servers, func(a evidence.ServerAnswer) bool { return a.Answer == evidence.Positive })
	if at < 0 {
		return nil
	}
	primary := servers[at].SOA.Primary
	if primary.IsZero() || primary.IsRoot() || slices.ContainsFunc(servers, func(a evidence.ServerAnswer) bool { return a.Name == primary }) {
		return nil
	}
	_, problems := w.addressesOf(ctx, []dnsname.Name{primary}, nil)
	if len(problems) == 1 && problems[0].Kind == evidence.NameMissing {
		return &problems[0]
	}
	return nil
}

// askForDS asks every parent server for the DS set itself whose referral neither brought it nor proved that there is none: one that does
// not sign need not say (RFC 4035 section 3.1.4). One that does not answer was not asked.
func (w *walk) askForDS(ctx context.Context, out *evidence.Sweep) {
	inParallel(len(out.Parents), func(i int) {
		p := &out.Parents[i]
		if p.Answer != evidence.Referral || p.AskedDS {
			return
		}
		r, err := w.ask(ctx, p.Server, Question{Name: out.Domain.String(), Type: dns.TypeDS, Signed: true})
		if p.AskedDS = err == nil && r.Authoritative; p.AskedDS {
			p.DS = aboutKeys(r.Msg, out.Domain)
		}
	})
}

// beginParents asks the servers of the zone above.
func (w *walk) beginParents(ctx context.Context, out *evidence.Sweep, brief bool) ([]asked, error) {
	q := Question{Name: out.Domain.String(), Type: dns.TypeNS, Signed: w.s.judgesSignatures() || !brief, Brief: brief}
	zone, parents, err := w.parentOf(ctx, out.Domain, q.Name)
	if err != nil {
		return nil, err
	}
	parents = parents[:min(len(parents), maxNameservers*2)]
	out.Zone = zone
	out.Parents = make([]evidence.ParentAnswer, len(parents))
	ways := make([]asked, len(parents))
	for i, p := range parents {
		w.begin(ctx, &ways[i], p, q)
	}
	return ways, nil
}

// namesIn returns the nameservers that are to be asked.
func namesIn(scope Scope, parents []evidence.ParentAnswer) []dnsname.Name {
	names := make([]dnsname.Name, 0, len(scope.Nameservers)+len(parents)*4)
	names = append(names, scope.Nameservers...)
	for i := range parents {
		names = append(names, parents[i].NS...)
	}
	return dnsname.SortInPlace(names)
}

// keepOwn keeps what parents say of the domain's own keys where their referrals did not.
func keepOwn(parents []evidence.ParentAnswer, own []dnssec.Records) {
	for i, about := range own {
		if about != nil {
			parents[i].DS, parents[i].AskedDS = about, len(about) > 0
		}
	}
}

// chainOf returns the links down to the parent, and by the place of each parent server what it says of the domain's own keys, where
// its referral was silent about them.
func (w *walk) chainOf(ctx context.Context, zone dnsname.Name, parents []evidence.ParentAnswer, domain dnsname.Name) (links []dnssec.Link, own []dnssec.Records) {
	own = make([]dnssec.Records, len(parents))
	links = w.chainTo(ctx, zone)
	if len(links) == 0 || !links[len(links)-1].Keys.Signed() {
		return links, own
	}
	silent := func(p evidence.ParentAnswer) bool { return p.Answer == evidence.Referral && len(p.DS) == 0 }
	inParallel(len(parents), func(i int) {
		if !silent(parents[i]) {
			return
		}
		if r, err := w.ask(ctx, parents[i].Server, Question{Name: domain.String(), Type: dns.TypeDS, Signed: true}); err == nil {
			own[i] = aboutKeys(r.Msg, domain)
		}
	})
	if zone != domain.Parent() && slices.ContainsFunc(parents, silent) {
		more, _ := w.cutsBetween(ctx, zone, domain)
		links = append(links, more...)
	}
	return links, own
}

// Servers returns the addresses of nameservers, found by walking from the root, and the names that lead to none.
func (s *Sweeper) Servers(ctx context.Context, names []dnsname.Name) ([]evidence.Server, []evidence.NameProblem) {
	return (&walk{Round: s.NewRound()}).addressesOf(ctx, names, nil)
}

// inParallel calls do for 0 to n-1, a bounded number at a time, and waits.
func inParallel(n int, do func(int)) {
	if n <= 1 {
		for i := range n {
			do(i)
		}
		return
	}
	var group errgroup.Group
	group.SetLimit(atOnce)
	for i := range n {
		group.Go(func() error { do(i); return nil })
	}
	_ = group.Wait()
}

// addressesOf returns the addresses of names, by glue where there is any.
func (w *walk) addressesOf(ctx context.Context, names []dnsname.Name, glue map[dnsname.Name][]netip.Addr) (servers []evidence.Server, problems []evidence.NameProblem) {
	names = names[:min(len(names), maxNameservers)]
	got := make([]addresses, len(names))
	var unknown []int
	for i, name := range names {
		if known := glue[name]; len(known) > 0 {
			got[i].servers = w.at(name, known)
		} else {
			unknown = append(unknown, i)
		}
	}
	inParallel(len(unknown), func(i int) { got[unknown[i]] = w.address(ctx, names[unknown[i]], nil) })
	total := 0
	for i := range got {
		total += len(got[i].servers)
	}
	servers = make([]evidence.Server, 0, total)
	for i := range names {
		servers = append(servers, got[i].servers...)
		if len(got[i].servers) == 0 {
			problems = append(problems, got[i].problem)
		}
	}
	return servers, problems
}

// readParent reads what one parent server says of the delegation.
func (w *walk) readParent(ctx context.Context, way *asked, zone, domain dnsname.Name) evidence.ParentAnswer {
	m, err := way.end(ctx)
	a := evidence.ParentAnswer{Server: way.server, At: w.s.Now()}
	switch {
	case err != nil:
		a.Answer, a.Problem = evidence.Silent, err.Error()
		return a
	case m.Rcode == dns.RcodeNameError:
		a.Answer, a.Negative = evidence.NoName, negativeTTL(m.Msg)
		return a
	case m.Rcode != dns.RcodeSuccess:
		a.Answer, a.Problem = evidence.Lame, dns.RcodeToString[m.Rcode]
		return a
	}
	// A server that is authoritative for both sides of the cut answers from the child's side.
	for _, section := range [...][]dns.RR{m.Ns, m.Answer} {
		for _, rr := range section {
			ns, ok := rr.(*dns.NS)
			if !ok || !isCalled(ns.Hdr.Name, domain, way.q.Name) {
				continue
			}
			if target, err := book.parse(ns.Ns); err == nil {
				a.Answer, a.TTL = evidence.Referral, max(a.TTL, ns.Hdr.Ttl)
				a.NS = append(roomFor(a.NS, len(section)), target)
			}
		}
	}
	a.NS, a.DS = dnsname.SortInPlace(a.NS), aboutKeys(m.Msg, domain)
	a.AskedDS = way.q.Signed && len(a.DS) > 0
	a.ChildToo = m.Authoritative && len(a.NS) > 0
	a.Glue = slices.DeleteFunc(glueIn(m.Msg, zone), func(g evidence.Glue) bool { return !slices.Contains(a.NS, g.Name) })
	a.Foreign = addressesIn(m.Msg, func(n dnsname.Name) bool { return !n.IsBelow(zone) && slices.Contains(a.NS, n) })
	if len(a.NS) == 0 {
		a.Answer, a.Negative = evidence.NoData, negativeTTL(m.Msg)
	}
	return a
}

// roomFor returns an empty list room for so many.
func roomFor[T any](list []T, n int) []T {
	if list == nil {
		return make([]T, 0, n)
	}
	return list
}

// isCalled reports whether a text is a name's, which is most often written as it is.
func isCalled(text string, name dnsname.Name, written string) bool {
	if text == written {
		return true
	}
	other, err := dnsname.Parse(text)
	return err == nil && other == name
}

// soaIn reads the SOA record of a section, with the negative TTL of RFC 2308 section 5. It is likely to be of a name that is written so.
func soaIn(section []dns.RR, likely dnsname.Name, written string) (evidence.SOA, dnsname.Name, bool) {
	for _, rr := range section {
		soa, ok := rr.(*dns.SOA)
		if !ok {
			continue
		}
		owner, err := likely, error(nil)
		if soa.Hdr.Name != written {
			owner, err = dnsname.Parse(soa.Hdr.Name)
		}
		primary, err2 := book.parse(soa.Ns)
		contact, err3 := book.parse(soa.Mbox)
		if err == nil && err2 == nil && err3 == nil {
			return evidence.SOA{Primary: primary, Contact: contact, Serial: soa.Serial, Refresh: soa.Refresh, Retry: soa.Retry, Expire: soa.Expire,
				Negative: min(soa.Hdr.Ttl, soa.Minttl)}, owner, true
		}
	}
	return evidence.SOA{}, dnsname.Name{}, false
}

func negativeTTL(m *dns.Msg) uint32 {
	soa, _, _ := soaIn(m.Ns, dnsname.Name{}, "")
	return soa.Negative
}
