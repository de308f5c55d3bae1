package resolve

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"

	"github.com/miekg/dns"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/zonefile"
)

// maxQuestions bounds what one sweep may ask, whatever servers answer.
const maxQuestions = 3000

// maxDepth bounds how many names may have to be looked up to look up a name.
const maxDepth = 6

// Hints are the root's nameservers.
type Hints []delegation.Server

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
				hints = append(hints, delegation.Server{Name: r.Name, Address: netip.AddrPortFrom(addr, port).String()})
			}
		}
	}
	if len(hints) == 0 {
		return nil, errors.New("reading root hints: they hold no address")
	}
	return hints, nil
}

// walk is what one sweep learns on its way down. It is safe for concurrent use.
type walk struct {
	client *Client
	port   uint16
	mu     sync.Mutex
	asked  int
	deaf   map[string]bool // addresses that did not answer: asked last from then on
	zones  map[dnsname.Name]*zoneServers
	addrs  map[dnsname.Name]addresses
}

// zoneServers are the nameservers of a zone as its parent refers to them.
type zoneServers struct {
	names []dnsname.Name
	glue  map[dnsname.Name][]netip.Addr // of names below the referring zone only
}

// addresses are what a nameserver's name leads to, or why it leads nowhere.
type addresses struct {
	servers []delegation.Server
	problem string
}

func newWalk(client *Client, hints Hints, port uint16) *walk {
	root := &zoneServers{glue: map[dnsname.Name][]netip.Addr{}}
	for _, h := range hints {
		at, _ := netip.ParseAddrPort(h.Address)
		root.names = append(root.names, h.Name)
		root.glue[h.Name] = append(root.glue[h.Name], at.Addr())
	}
	root.names = dnsname.SortSet(root.names)
	return &walk{client: client, port: port, zones: map[dnsname.Name]*zoneServers{dnsname.Root: root}, addrs: map[dnsname.Name]addresses{}, deaf: map[string]bool{}}
}

// ask counts the question against the sweep's bound.
func (w *walk) ask(ctx context.Context, server delegation.Server, q Question) (*dns.Msg, error) {
	w.mu.Lock()
	w.asked++
	tooMany := w.asked > maxQuestions
	w.mu.Unlock()
	if tooMany {
		return nil, fmt.Errorf("the check was ended after %d questions", maxQuestions)
	}
	at, err := netip.ParseAddrPort(server.Address)
	if err != nil {
		return nil, err
	}
	return w.client.Ask(ctx, at, q)
}

// known gives the deepest zone at or above name whose servers are known.
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
// gives that zone and its servers.
func (w *walk) parentOf(ctx context.Context, domain dnsname.Name, depth int) (dnsname.Name, []delegation.Server, error) {
	if domain.IsRoot() {
		return domain, nil, errors.New("the root has no parent")
	}
	zone, servers := w.known(domain.Parent())
	for range domain.NumLabels() + 1 {
		list, problem := w.serversOf(ctx, servers, depth)
		if len(list) == 0 {
			return zone, nil, fmt.Errorf("no address of the nameservers of %s is known (%s)", inWords(zone), problem)
		}
		m, err := w.firstAnswer(ctx, list, Question{Name: domain.String(), Type: dns.TypeNS})
		if err != nil {
			return zone, nil, fmt.Errorf("asking the nameservers of %s: %w", inWords(zone), err)
		}
		below, next := referral(m, zone, domain)
		if next == nil || below == domain {
			return zone, list, nil
		}
		w.mu.Lock()
		w.zones[below] = next
		w.mu.Unlock()
		zone, servers = below, next
	}
	return zone, nil, errors.New("the referrals do not come to an end")
}

func inWords(zone dnsname.Name) string {
	if zone.IsRoot() {
		return "the root"
	}
	return zone.String()
}

// firstAnswer asks servers in turn until one answers usably.
func (w *walk) firstAnswer(ctx context.Context, servers []delegation.Server, q Question) (*dns.Msg, error) {
	var last error
	for _, s := range w.hearingFirst(servers) {
		m, err := w.ask(ctx, s, q)
		if err == nil && m.Rcode != dns.RcodeSuccess && m.Rcode != dns.RcodeNameError {
			err = errors.New(dns.RcodeToString[m.Rcode])
		}
		if err == nil {
			return m, nil
		}
		w.mu.Lock()
		w.deaf[s.Address] = true
		w.mu.Unlock()
		if last = err; ctx.Err() != nil {
			break
		}
	}
	return nil, last
}

// hearingFirst puts servers that did not answer before behind the others.
func (w *walk) hearingFirst(servers []delegation.Server) []delegation.Server {
	w.mu.Lock()
	defer w.mu.Unlock()
	ordered := slices.Clone(servers)
	slices.SortStableFunc(ordered, func(a, b delegation.Server) int {
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
	owner, set := dnsname.Name{}, &zoneServers{glue: map[dnsname.Name][]netip.Addr{}}
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
	for _, rr := range m.Extra {
		addr, ok := addressIn(rr)
		at, err := dnsname.Parse(rr.Header().Name)
		if ok && err == nil && at.IsBelow(zone) { // what lies elsewhere is not this server's to say
			set.glue[at] = append(set.glue[at], addr)
		}
	}
	set.names = dnsname.SortSet(set.names)
	return owner, set
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

// serversOf gives the addresses of a zone's nameservers, by glue where there is any.
func (w *walk) serversOf(ctx context.Context, z *zoneServers, depth int) (list []delegation.Server, problem string) {
	for _, name := range z.names {
		if glue := z.glue[name]; len(glue) > 0 {
			list = append(list, w.at(name, glue)...)
			continue
		}
		found, why := w.address(ctx, name, depth+1)
		if why != "" {
			problem = name.String() + ": " + why
		}
		list = append(list, found...)
	}
	return list, problem
}

func (w *walk) at(name dnsname.Name, addrs []netip.Addr) []delegation.Server {
	servers := make([]delegation.Server, len(addrs))
	for i, addr := range addrs {
		servers[i] = delegation.Server{Name: name, Address: netip.AddrPortFrom(addr, w.port).String()}
	}
	return servers
}

// address looks up the addresses of a nameserver's name at the servers that are authoritative for it, IPv4 and IPv6.
// What was found is kept for the rest of the sweep.
func (w *walk) address(ctx context.Context, name dnsname.Name, depth int) ([]delegation.Server, string) {
	if depth > maxDepth {
		return nil, "too many names depend on each other"
	}
	w.mu.Lock()
	found, known := w.addrs[name]
	w.mu.Unlock()
	if !known {
		found.servers, found.problem = w.lookUp(ctx, name, depth)
		w.mu.Lock()
		w.addrs[name] = found
		w.mu.Unlock()
	}
	return found.servers, found.problem
}

func (w *walk) lookUp(ctx context.Context, name dnsname.Name, depth int) ([]delegation.Server, string) {
	zone, servers, err := w.parentOf(ctx, name, depth)
	if err != nil {
		return nil, err.Error()
	}
	var found []netip.Addr
	problem := "it has neither A nor AAAA records"
	for _, qtype := range []uint16{dns.TypeA, dns.TypeAAAA} {
		m, err := w.firstAnswer(ctx, servers, Question{Name: name.String(), Type: qtype})
		if err != nil {
			return nil, fmt.Sprintf("asking the nameservers of %s: %v", inWords(zone), err)
		}
		if m.Rcode == dns.RcodeNameError {
			return nil, "the name does not exist"
		}
		for _, rr := range m.Answer {
			if addr, ok := addressIn(rr); ok && rr.Header().Rrtype == qtype {
				found = append(found, addr)
			} else if rr.Header().Rrtype == dns.TypeCNAME {
				problem = "it is a CNAME, which a nameserver's name may not be (RFC 2181 section 10.3)"
			}
		}
	}
	if len(found) == 0 {
		return nil, problem
	}
	return w.at(name, found), ""
}
