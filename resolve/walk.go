package resolve

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/evidence"
	"beacon/core/record"
	"beacon/core/zonefile"
)

// Bounds of one check, whatever servers answer. With 13 nameservers of two addresses each, a thorough check takes about 500 questions.
const (
	maxQuestions   = 2000 // that one check asks
	maxNameservers = 32   // of one zone that are looked at
	maxAddresses   = 8    // of one nameserver
	maxDepth       = 6    // how many names may have to be looked up to look up a name
)

// Hints are the root's nameservers.
type Hints []evidence.Server

// ReadHints reads root hints as a zone file; port is the one that all nameservers answer on, 53 in the world outside.
func ReadHints(text string, port uint16) (Hints, error) {
	zone, faults := zonefile.Read(text, zonefile.Options{Origin: dnsname.Root, TTL: 3600000})
	if len(faults) > 0 {
		return nil, fmt.Errorf("reading root hints: %w", faults[0])
	}
	var hints Hints
	for _, r := range zone.Records {
		if r.Type == record.A || r.Type == record.AAAA {
			if addr, err := netip.ParseAddr(string(r.Data)); err == nil {
				hints = append(hints, evidence.Server{Name: r.Name, Address: netip.AddrPortFrom(addr, port).String()})
			}
		}
	}
	if len(hints) == 0 {
		return nil, errors.New("reading root hints: they hold no address")
	}
	return hints, nil
}

// Round is what sweeps that are made together learn and share: the zones above, their keys, nameservers' addresses. It is
// safe for concurrent use, and meant to be dropped soon: it never looks at TTLs.
type Round struct {
	s       *Sweeper
	mu      sync.Mutex
	deaf    map[string]bool   // addresses that did not answer: asked last from then on
	manners map[string]manner // of addresses that are asked in another way than the proper one
	zones   map[dnsname.Name]*zoneServers
	addrs   map[dnsname.Name]addresses
	keys    map[dnsname.Name]*keysOf
}

// zoneServers are the nameservers of a zone as its parent refers to them.
type zoneServers struct {
	parent dnsname.Name // the zone that refers to it; zero for the root
	names  []dnsname.Name
	glue   map[dnsname.Name][]netip.Addr // of names below the referring zone only
	ds     dnssec.Records                // what came along about its keys
	all    []evidence.Server             // where there is glue for every name
}

// addresses are what a nameserver's name leads to, or why it leads nowhere.
type addresses struct {
	servers []evidence.Server
	problem evidence.NameProblem
}

// NewRound begins a round.
func (s *Sweeper) NewRound() *Round {
	root := &zoneServers{glue: map[dnsname.Name][]netip.Addr{}}
	for _, h := range s.Hints {
		at, _ := netip.ParseAddrPort(h.Address)
		root.names = append(root.names, h.Name)
		root.glue[h.Name] = append(root.glue[h.Name], at.Addr())
	}
	root.names = dnsname.SortSet(root.names)
	return &Round{s: s, zones: map[dnsname.Name]*zoneServers{dnsname.Root: root}, addrs: map[dnsname.Name]addresses{}, deaf: map[string]bool{}, manners: map[string]manner{}, keys: map[dnsname.Name]*keysOf{}}
}

// walk is one check's way through a round. It is safe for concurrent use.
type walk struct {
	*Round
	asked atomic.Int64
	tape  *tape // what is heard is kept here; nil for nowhere
	busy  sync.WaitGroup
}

var errTooMany = fmt.Errorf("the check was ended after %d questions", maxQuestions)

// known returns the deepest zone at or above name whose servers are known.
func (w *walk) known(name dnsname.Name) (dnsname.Name, *zoneServers) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for at := name; ; at = at.Parent() {
		if z := w.zones[at]; z != nil || at.IsRoot() {
			return at, w.zones[at]
		}
	}
}

// parentOf walks down until some zone's servers refer to domain itself, or say that there is no such delegation. It
// gives that zone and its servers. text is the domain in presentation form.
func (w *walk) parentOf(ctx context.Context, domain dnsname.Name, text string) (dnsname.Name, []evidence.Server, error) {
	if domain.IsRoot() {
		return domain, nil, errors.New("the root has no parent")
	}
	zone, servers := w.known(domain.Parent())
	f, err := w.descend(ctx, zone, servers, Question{Name: text, Type: dns.TypeNS}, domain, nil, true)
	return f.zone, f.servers, err
}

// found is where a descent came to: the zone, its servers, and what one of them answered, unless it need not be asked.
type found struct {
	zone    dnsname.Name
	servers []evidence.Server
	reply   Reply
}

// descend asks for a name from zone downwards, following referrals, until one is not followed any more: because it leads to
// the name itself and the parent is sought, or because there is none.
func (w *walk) descend(ctx context.Context, zone dnsname.Name, servers *zoneServers, q Question, name dnsname.Name, path []dnsname.Name, parent bool) (f found, err error) {
	q.Signed = w.s.judgesSignatures()
	for range name.NumLabels() + 2 {
		list, problem := w.serversOf(ctx, servers, path)
		f = found{zone: zone, servers: list}
		if len(list) == 0 {
			err := fmt.Errorf("no address of the nameservers of %s is known (%s: %s)", inWords(zone), short(problem.Name), problem.Problem)
			if problem.Kind == evidence.NameCircular {
				err = circular{err}
			}
			if problem.Kind != evidence.NameNotLooked {
				err = brokenZone{zone, err}
			}
			return f, err
		}
		if q.Signed && parent {
			w.keysSoon(ctx, zone, list)
		}
		if parent && zone == name.Parent() { // nothing can be in between
			return f, nil
		}
		if f.reply, err = w.firstAnswer(ctx, list, q); err != nil {
			err = fmt.Errorf("asking the nameservers of %s: %w", inWords(zone), err)
			if errors.As(err, &noneUsable{}) {
				err = brokenZone{zone, err}
			}
			return f, err
		}
		below, next := referral(f.reply.Msg, zone, name)
		if next == nil || parent && below == name {
			return f, nil
		}
		next.all = w.allByGlue(next)
		w.mu.Lock()
		w.zones[below] = next
		w.mu.Unlock()
		zone, servers = below, next
	}
	return f, errors.New("the referrals do not come to an end")
}

// circular is the failure to find a zone's servers because their addresses lie in it.
type circular struct{ error }

// brokenZone is a failure that lies with a zone, and not with the way to it.
type brokenZone struct {
	zone dnsname.Name
	error
}

func (b brokenZone) Unwrap() error { return b.error }

// noneUsable is what came back where every server answered, and none usably.
type noneUsable struct{ error }

func short(n dnsname.Name) string { return strings.TrimSuffix(n.String(), ".") }

func inWords(zone dnsname.Name) string {
	if zone.IsRoot() {
		return "the root"
	}
	return short(zone)
}

// firstAnswer asks servers in turn until one answers usably; noneUsable says that all of them answered otherwise.
func (w *walk) firstAnswer(ctx context.Context, servers []evidence.Server, q Question) (Reply, error) {
	var last error
	silent := false
	for _, s := range w.hearingFirst(servers) {
		r, err := w.ask(ctx, s, q)
		silent = silent || err != nil
		if err == nil && r.Rcode != dns.RcodeSuccess && r.Rcode != dns.RcodeNameError {
			err = errors.New(dns.RcodeToString[r.Rcode])
		}
		if err == nil {
			return r, nil
		}
		w.mu.Lock()
		w.deaf[s.Address] = true
		w.mu.Unlock()
		if last = err; ctx.Err() != nil || errors.Is(err, errTooMany) {
			break
		}
	}
	if !silent && last != nil {
		last = noneUsable{last}
	}
	return Reply{}, last
}

// hearingFirst puts servers that did not answer before behind the others.
func (w *walk) hearingFirst(servers []evidence.Server) []evidence.Server {
	w.mu.Lock()
	defer w.mu.Unlock()
	ordered := slices.Clone(servers)
	slices.SortStableFunc(ordered, func(a, b evidence.Server) int {
		switch {
		case w.deaf[a.Address] == w.deaf[b.Address]:
			return 0
		case w.deaf[a.Address]:
			return 1
		}
		return -1
	})
	return ordered
}

// referral reads a referral from zone towards name: NS records in the authority section of an answer that is not
// authoritative (RFC 1034 section 4.3.2), their owner strictly between.
func referral(m *dns.Msg, zone, name dnsname.Name) (dnsname.Name, *zoneServers) {
	if m.Authoritative || m.Rcode != dns.RcodeSuccess {
		return dnsname.Name{}, nil
	}
	owner, set := dnsname.Name{}, &zoneServers{parent: zone, glue: map[dnsname.Name][]netip.Addr{}}
	for _, rr := range m.Ns {
		ns, ok := rr.(*dns.NS)
		if !ok {
			continue
		}
		at, err := dnsname.Parse(ns.Hdr.Name)
		target, err2 := dnsname.Parse(ns.Ns)
		if err != nil || err2 != nil || !at.IsBelow(zone) || !name.IsAtOrBelow(at) || !owner.IsZero() && at != owner {
			continue
		}
		owner = at
		set.names = append(set.names, target)
	}
	if owner.IsZero() {
		return owner, nil
	}
	for _, g := range glueIn(m, zone) {
		set.glue[g.Name] = g.Addresses
	}
	set.names = dnsname.SortSet(set.names)
	set.ds = aboutKeys(m, owner)
	return owner, set
}

// glueIn reads the addresses in an answer's additional section: what lies outside the zone is not this server's to say.
func glueIn(m *dns.Msg, zone dnsname.Name) []evidence.Glue {
	return addressesIn(m, func(n dnsname.Name) bool { return n.IsBelow(zone) })
}

// addressesIn reads the addresses of an additional section, of those names that are desired.
func addressesIn(m *dns.Msg, wanted func(dnsname.Name) bool) (list []evidence.Glue) {
	for _, rr := range m.Extra {
		addr, ok := addressIn(rr)
		if !ok {
			continue
		}
		name, err := book.parse(rr.Header().Name)
		if err != nil || !wanted(name) || len(list) >= maxNameservers {
			continue
		}
		i := slices.IndexFunc(list, func(g evidence.Glue) bool { return g.Name == name })
		if i < 0 {
			list = append(roomFor(list, min(len(m.Extra), maxNameservers)), evidence.Glue{Name: name})
			i = len(list) - 1
		}
		if g := &list[i]; len(g.Addresses) < maxAddresses && !slices.Contains(g.Addresses, addr) {
			g.Addresses = append(g.Addresses, addr)
			g.TTL = max(g.TTL, rr.Header().Ttl)
		}
	}
	for _, g := range list {
		slices.SortFunc(g.Addresses, netip.Addr.Compare)
	}
	return list
}

// aboutKeys returns what an answer from the parent says of a zone's keys: its DS records, or the proof that there are
// none, with their signatures.
func aboutKeys(m *dns.Msg, zone dnsname.Name) (out dnssec.Records) {
	for _, section := range [][]dns.RR{m.Answer, m.Ns} {
		for _, rr := range section {
			t := rr.Header().Rrtype
			if sig, ok := rr.(*dns.RRSIG); ok {
				t = sig.TypeCovered
			}
			if t != dns.TypeDS && t != dns.TypeNSEC && t != dns.TypeNSEC3 {
				continue
			}
			if owner, err := dnsname.Parse(rr.Header().Name); err == nil && (t != dns.TypeDS || owner == zone) {
				out = append(out, rr)
			}
		}
	}
	return out
}

func addressIn(rr dns.RR) (netip.Addr, bool) {
	switch rr := rr.(type) {
	case *dns.A:
		addr, ok := netip.AddrFromSlice(rr.A.To4())
		return addr, ok
	case *dns.AAAA:
		return netip.AddrFromSlice(rr.AAAA)
	}
	return netip.Addr{}, false
}

// allByGlue returns the addresses of a zone's nameservers where glue tells them all.
func (w *walk) allByGlue(z *zoneServers) (list []evidence.Server) {
	for _, name := range z.names[:min(len(z.names), maxNameservers)] {
		if len(z.glue[name]) == 0 {
			return nil
		}
		list = append(list, w.at(name, z.glue[name])...)
	}
	return slices.Clip(list)
}

// serversOf returns the addresses of a zone's nameservers, by glue where there is any; the others are looked up only where no glue
// helps on.
func (w *walk) serversOf(ctx context.Context, z *zoneServers, path []dnsname.Name) (list []evidence.Server, problem evidence.NameProblem) {
	if z.all != nil {
		return z.all, problem
	}
	names := z.names[:min(len(z.names), maxNameservers)]
	for _, name := range names {
		list = append(list, w.at(name, z.glue[name])...)
	}
	for _, name := range names {
		if len(z.glue[name]) > 0 || len(list) >= 2 && len(path) > 0 { // for looking up a name, two servers do
			continue
		}
		found := w.address(ctx, name, path)
		if found.problem.Problem != "" && problem.Kind != evidence.NameCircular {
			problem = found.problem
		}
		list = append(list, found.servers...)
	}
	return list, problem
}

func (w *walk) at(name dnsname.Name, addrs []netip.Addr) []evidence.Server {
	addrs = addrs[:min(len(addrs), maxAddresses)]
	servers := make([]evidence.Server, len(addrs))
	for i, addr := range addrs {
		servers[i] = evidence.Server{Name: name, Address: netip.AddrPortFrom(addr, w.s.Port).String()}
	}
	return servers
}

// address looks up the addresses of a nameserver's name at the servers that are authoritative for it, IPv4 and IPv6.
// What was found is kept for the rest of the round. path is the names whose looking up led here.
func (w *walk) address(ctx context.Context, name dnsname.Name, path []dnsname.Name) addresses {
	fail := func(kind evidence.ProblemKind, text string) addresses {
		return addresses{problem: evidence.NameProblem{Name: name, Kind: kind, Problem: text}}
	}
	if slices.Contains(path, name) {
		return fail(evidence.NameCircular, "its address is only known to itself, and there is no glue")
	}
	if len(path) >= maxDepth {
		return fail(evidence.NameCircular, "too many names depend on each other")
	}
	w.mu.Lock()
	found, known := w.addrs[name]
	w.mu.Unlock()
	if !known {
		found = w.lookUp(ctx, name, append(slices.Clone(path), name), fail)
		if ctx.Err() == nil && (len(path) == 0 || found.problem.Kind == "") { // what failed on the way of another name may do on its own
			w.mu.Lock()
			w.addrs[name] = found
			w.mu.Unlock()
		}
	}
	return found
}

func (w *walk) lookUp(ctx context.Context, name dnsname.Name, path []dnsname.Name, fail func(evidence.ProblemKind, string) addresses) addresses {
	if name.IsRoot() {
		return fail(evidence.NameEmpty, "the root is no host")
	}
	start, known := w.known(name)
	got, err := w.descend(ctx, start, known, Question{Name: name.String(), Type: dns.TypeA}, name, path, false)
	if err != nil {
		if errors.As(err, &circular{}) {
			return fail(evidence.NameCircular, err.Error())
		}
		return fail(evidence.NameNotLooked, err.Error())
	}
	types := []uint16{dns.TypeA, dns.TypeAAAA}
	replies, errs := []Reply{got.reply, {}}, make([]error, 2)
	replies[1], errs[1] = w.firstAnswer(ctx, got.servers, Question{Name: name.String(), Type: dns.TypeAAAA})
	var found []netip.Addr
	kind, problem := evidence.NameEmpty, "it has neither A nor AAAA records"
	for i, r := range replies {
		if errs[i] != nil {
			if len(found) > 0 {
				break
			}
			return fail(evidence.NameNotLooked, fmt.Sprintf("asking the nameservers of %s: %v", inWords(got.zone), errs[i]))
		}
		if r.Rcode == dns.RcodeNameError {
			return fail(evidence.NameMissing, "the name does not exist")
		}
		for _, rr := range r.Answer {
			owner, err := dnsname.Parse(rr.Header().Name)
			if addr, ok := addressIn(rr); ok && rr.Header().Rrtype == types[i] && err == nil && owner == name {
				found = append(found, addr)
			} else if rr.Header().Rrtype == dns.TypeCNAME && owner == name {
				kind, problem = evidence.NameAlias, "it is a CNAME, which a nameserver's name may not be (RFC 2181 section 10.3)"
			}
		}
	}
	if len(found) == 0 || kind == evidence.NameAlias {
		return fail(kind, problem)
	}
	return addresses{servers: w.at(name, found)}
}
