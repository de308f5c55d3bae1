package resolve

import (
	"context"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/evidence"
	"beacon/core/record"
)

// glueOf collects what parents say of nameservers' addresses.
func glueOf(parents []evidence.ParentAnswer) map[dnsname.Name][]netip.Addr {
	glue := map[dnsname.Name][]netip.Addr{}
	for _, p := range parents {
		for _, g := range p.Glue {
			known := glue[g.Name]
			if known == nil {
				glue[g.Name] = slices.Clip(g.Addresses)
				continue
			}
			for _, a := range g.Addresses {
				if !slices.Contains(known, a) {
					known = append(known, a)
				}
			}
			glue[g.Name] = known
		}
	}
	return glue
}

// askServers asks every address of the named nameservers, also those that only the zone itself knows.
func (w *walk) askServers(ctx context.Context, domain dnsname.Name, names []dnsname.Name, parents []evidence.ParentAnswer, scope Scope) ([]evidence.ServerAnswer, []evidence.NameProblem) {
	glue := glueOf(parents)
	for name, addresses := range scope.Hosts {
		glue[name] = addresses
	}
	servers, problems := w.addressesOf(ctx, names, glue)
	within := slices.DeleteFunc(slices.Clone(names), func(n dnsname.Name) bool { return !n.IsAtOrBelow(domain) })
	ask := func(servers []evidence.Server) []evidence.ServerAnswer {
		answers := make([]evidence.ServerAnswer, len(servers))
		inParallel(len(servers), func(i int) { answers[i] = w.askServer(ctx, servers[i], domain, within, scope) })
		return answers
	}
	answers := ask(servers)
	var more []evidence.Server
	for _, a := range answers {
		for _, h := range a.Hosts {
			for _, s := range w.at(h.Name, h.Addresses) {
				if !slices.Contains(servers, s) && !slices.Contains(more, s) {
					more = append(more, s)
				}
			}
		}
	}
	answers = append(answers, ask(more[:min(len(more), maxNameservers)])...)
	found := func(n dnsname.Name) bool {
		return slices.ContainsFunc(more, func(s evidence.Server) bool { return s.Name == n })
	}
	for i, p := range problems {
		if found(p.Name) { // the zone has an address for it: what is missing is glue
			problems[i].Kind = evidence.NameCircular
		}
	}
	return answers, problems
}

// askServer asks one nameserver address for the zone's SOA, and where that is answered for all the rest.
func (w *walk) askServer(ctx context.Context, server evidence.Server, domain dnsname.Name, within []dnsname.Name, scope Scope) evidence.ServerAnswer {
	a := evidence.ServerAnswer{Server: server}
	signed := w.s.judgesSignatures() || scope.Signed
	ways := make([]asked, len(scope.Watched))
	for i, key := range scope.Watched {
		w.begin(ctx, &ways[i], server, Question{Name: key.Name.String(), Type: uint16(key.Type), Signed: signed})
	}
	name := domain.String()
	m, err := w.ask(ctx, server, Question{Name: name, Type: dns.TypeSOA, Signed: signed})
	if err != nil {
		for i := range ways { // what does not answer one question will not answer five
			ways[i].abandon()
		}
		w.readSOA(&a, m, err, domain, name)
		return a
	}
	if w.readSOA(&a, m, err, domain, name); a.Answer != evidence.Positive {
		for i := range ways {
			ways[i].abandon()
		}
		return a
	}
	early := make([]Reply, len(ways), len(ways)+1)
	a.Sets = make([]evidence.Observed, len(ways))
	var takes []func()
	for i := range ways {
		takes = append(takes, func() {
			r, err := ways[i].end(ctx)
			early[i], a.Sets[i] = r, observed(scope.Watched[i], r, err, false)
		})
	}
	if m.Tries == 1 && !m.NoUDP && m.Took < leastPatience { // they are there, or nearly
		for _, take := range takes {
			take()
		}
		takes = nil
	}
	w.askRest(ctx, &a, takes, domain, within, scope)
	readEarly(&a, append(early, m), signed)
	return a
}

// climb returns names and all that are above them, up to the apex: where CAA records are looked for (RFC 8659 section 3).
func climb(names []dnsname.Name, apex dnsname.Name) (all []dnsname.Name) {
	for _, name := range names {
		for ; name.IsAtOrBelow(apex); name = name.Parent() {
			if !slices.Contains(all, name) {
				all = append(all, name)
			}
			if name == apex {
				break
			}
		}
	}
	return all
}

// readSOA reads whether a server knows the zone, whose name was asked for so.
func (w *walk) readSOA(a *evidence.ServerAnswer, m Reply, err error, domain dnsname.Name, name string) {
	a.At = w.s.Now()
	if err != nil {
		a.Answer, a.Problem = evidence.Silent, err.Error()
		if strange, ok := asStrange(err); ok {
			a.Strange = strange
		}
		return
	}
	a.Took, a.NoUDP, a.NoEDNS = m.Took, m.NoUDP, m.NoEDNS
	soa, owner, found := soaIn(m.Answer, domain, name)
	a.Reason, a.Problem = lameness(m.Msg, domain, found && owner == domain)
	if a.Reason != "" {
		a.Answer = evidence.Lame
		return
	}
	a.Answer, a.SOA = evidence.Positive, soa
}

// lameness returns why an answer to the question for a zone's SOA is none.
func lameness(m *dns.Msg, domain dnsname.Name, hasSOA bool) (evidence.Reason, string) {
	switch {
	case m.Rcode == dns.RcodeRefused:
		return evidence.Refused, "REFUSED"
	case m.Rcode == dns.RcodeServerFailure:
		return evidence.Failed, "SERVFAIL"
	case m.Rcode == dns.RcodeNameError:
		return evidence.NotThere, "it says that the name does not exist (NXDOMAIN)"
	case m.Rcode != dns.RcodeSuccess:
		return evidence.OtherReason, dns.RcodeToString[m.Rcode]
	case !m.Authoritative && len(m.Answer) == 0:
		for _, rr := range m.Ns {
			if ns, ok := rr.(*dns.NS); ok {
				if owner, err := dnsname.Parse(ns.Hdr.Name); err == nil && domain.IsBelow(owner) {
					return evidence.Upward, "it sends on to the nameservers of " + inWords(owner) + ", above the zone"
				}
			}
		}
		return evidence.NotAuthoritative, "its answer is not authoritative"
	case !m.Authoritative:
		return evidence.NotAuthoritative, "its answer is not authoritative"
	case !hasSOA:
		return evidence.NotThere, "it returns no SOA record for the zone"
	}
	return "", ""
}

func readNS(a *evidence.ServerAnswer, m Reply) {
	if !m.Authoritative {
		return
	}
	for _, rr := range m.Answer {
		if ns, ok := rr.(*dns.NS); ok && len(a.NS) < 4*maxNameservers {
			if target, err := book.parse(ns.Ns); err == nil {
				a.NS, a.NSTTL = append(roomFor(a.NS, len(m.Answer)), target), max(a.NSTTL, ns.Hdr.Ttl)
			}
		}
	}
	a.NS = dnsname.SortInPlace(a.NS)
}

// readEarly takes in answers to what was asked together with the SOA, and that itself.
func readEarly(a *evidence.ServerAnswer, early []Reply, signed bool) {
	for _, r := range early {
		if r.Msg == nil {
			continue
		}
		if records := dnssec.Records(r.Answer); signed && records.Signed() {
			a.Signed = append(a.Signed, records...)
		}
		if r.Truncated {
			a.Truncated = append(a.Truncated, r.Question[0].Name+" "+typeText(r.Question[0].Qtype))
		}
		a.GivesNS = a.GivesNS || len(r.Answer) > 0 && r.Question[0].Qtype != dns.TypeSOA && slices.ContainsFunc(r.Ns, func(rr dns.RR) bool { return rr.Header().Rrtype == dns.TypeNS })
	}
	slices.SortFunc(a.Signed, func(x, y dns.RR) int { return strings.Compare(x.String(), y.String()) })
	slices.Sort(a.Truncated)
}

// askRest asks a server that knows the zone for everything else, and does what else is to be done, all at once.
func (w *walk) askRest(ctx context.Context, a *evidence.ServerAnswer, more []func(), domain dnsname.Name, within []dnsname.Name, scope Scope) {
	signed := w.s.judgesSignatures() || scope.Signed
	var mu sync.Mutex
	tasks := more
	ask := func(name dnsname.Name, t uint16, use func(Reply)) {
		tasks = append(tasks, func() {
			r, err := w.ask(ctx, a.Server, Question{Name: name.String(), Type: t, Signed: signed})
			if err != nil {
				return
			}
			mu.Lock()
			defer mu.Unlock()
			if r.Truncated {
				a.Truncated = append(a.Truncated, name.String()+" "+typeText(t))
			}
			use(r)
		})
	}
	keep := func(r Reply) {
		if records := dnssec.Records(r.Answer); signed && records.Signed() {
			a.Signed = append(a.Signed, records...)
		}
	}
	ask(domain, dns.TypeNS, func(r Reply) { readNS(a, r); keep(r) })
	for _, name := range climb(scope.Sites, domain) {
		key := record.Key{Name: name, Type: record.CAA}
		tasks = append(tasks, func() {
			r, err := w.ask(ctx, a.Server, Question{Name: name.String(), Type: dns.TypeCAA, Signed: signed})
			mu.Lock()
			defer mu.Unlock()
			a.CAA = append(a.CAA, observed(key, r, err, false))
		})
	}
	for _, host := range within {
		for _, t := range []uint16{dns.TypeA, dns.TypeAAAA} {
			ask(host, t, func(r Reply) { a.Hosts = addHost(a.Hosts, host, r) })
		}
	}
	tasks = append(tasks, func() {
		if _, err := w.askTCP(ctx, a.Server, Question{Name: domain.String(), Type: dns.TypeSOA}); err != nil {
			mu.Lock()
			defer mu.Unlock()
			a.NoTCP = err.Error()
		}
	})
	if probe, err := domain.Child(randomLabel()); err == nil {
		ask(probe, probeType, func(r Reply) { a.Denied = denied(probe, r) })
	}
	ask(domain, dns.TypeDNSKEY, func(r Reply) { a.Keys = dnssec.Records(r.Answer) })
	if signed {
		for _, t := range []uint16{dns.TypeCDS, dns.TypeCDNSKEY, dns.TypeCSYNC} {
			ask(domain, t, func(r Reply) {
				if r.Authoritative {
					a.Requests = append(a.Requests, r.Answer...)
				}
			})
		}
	}
	if slices.Contains(scope.Ours, a.Name) {
		tasks = append(tasks, w.forbidden(ctx, a, domain)...)
	}
	inParallel(len(tasks), func(i int) { tasks[i]() })
	slices.SortFunc(a.CAA, func(x, y evidence.Observed) int { return x.Key.Name.Compare(y.Key.Name) })
	slices.SortFunc(a.Hosts, func(x, y evidence.Glue) int { return x.Name.Compare(y.Name) })
}

// forbidden asks what a nameserver should not do for a stranger: resolve other names, and give the zone away.
func (w *walk) forbidden(ctx context.Context, a *evidence.ServerAnswer, domain dnsname.Name) []func() {
	return []func(){func() {
		r, err := w.ask(ctx, a.Server, Question{Name: domain.Parent().String(), Type: dns.TypeSOA, Recurse: true})
		a.Recursive = err == nil && r.RecursionAvailable && !r.Authoritative && r.Rcode == dns.RcodeSuccess && len(r.Answer) > 0
	}, func() { a.Transfers = w.gives(ctx, a.Server, domain) }}
}

// gives asks for a transfer of the zone, and breaks it off once it has begun.
func (w *walk) gives(ctx context.Context, server evidence.Server, domain dnsname.Name) bool {
	r, err := w.askBy(ctx, server, Question{Name: domain.String(), Type: dns.TypeAXFR}, w.s.Client.AskApart)
	return err == nil && r.Rcode == dns.RcodeSuccess && len(r.Answer) > 0 && r.Answer[0].Header().Rrtype == dns.TypeSOA
}

func addHost(hosts []evidence.Glue, name dnsname.Name, r Reply) []evidence.Glue {
	for _, rr := range r.Answer {
		addr, ok := addressIn(rr)
		owner, err := dnsname.Parse(rr.Header().Name)
		if !ok || err != nil || owner != name || !r.Authoritative {
			continue
		}
		i := slices.IndexFunc(hosts, func(g evidence.Glue) bool { return g.Name == name })
		if i < 0 {
			hosts = append(hosts, evidence.Glue{Name: name})
			i = len(hosts) - 1
		}
		if g := &hosts[i]; len(g.Addresses) < maxAddresses {
			g.Addresses, g.TTL = append(g.Addresses, addr), max(g.TTL, rr.Header().Ttl)
			slices.SortFunc(g.Addresses, netip.Addr.Compare)
		}
	}
	return hosts
}

func denied(probe dnsname.Name, r Reply) *evidence.Denied {
	d := &evidence.Denied{Name: probe.String(), Type: probeType, Answer: evidence.NoData}
	switch {
	case r.Rcode == dns.RcodeNameError:
		d.Answer = evidence.NoName
	case r.Rcode != dns.RcodeSuccess:
		return nil
	case len(r.Answer) > 0:
		d.Answer = evidence.Positive
	}
	for _, rr := range r.Ns {
		t := rr.Header().Rrtype
		if sig, ok := rr.(*dns.RRSIG); ok {
			t = sig.TypeCovered
		}
		if t == dns.TypeNSEC || t == dns.TypeNSEC3 {
			d.Authority = append(d.Authority, rr)
		}
	}
	return d
}
