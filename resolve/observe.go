package resolve

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"slices"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/record"
)

func typeText(t uint16) string {
	if text := dns.TypeToString[t]; text != "" {
		return text
	}
	return fmt.Sprintf("TYPE%d", t)
}

func sortedTail(parts []string) []string {
	slices.Sort(parts[1:])
	return parts
}

func asStrange(err error) (string, bool) {
	var s StrangeError
	return s.From.String(), errors.As(err, &s)
}

func randomLabel() string {
	var label [8]byte
	_, _ = rand.Read(label[:])
	return "probe-" + hex.EncodeToString(label[:])
}

// AskSet asks one nameserver for one record set.
func (s *Sweeper) AskSet(ctx context.Context, server evidence.Server, key record.Key) evidence.Observed {
	at, err := netip.ParseAddrPort(server.Address)
	if err != nil {
		return evidence.Observed{Key: key, Answer: evidence.Silent}
	}
	r, err := s.Client.Ask(ctx, at, Question{Name: key.Name.String(), Type: uint16(key.Type)})
	o := observed(key, r, err, false)
	if o.Answer == evidence.Lame && r.Rcode == dns.RcodeSuccess && refersAt(r.Ns, key.Name) {
		o.Answer = evidence.Referral
		o.Data, o.TTL = refersTo(r, key.Name)
	}
	return o
}

// refersTo returns the nameservers of a delegation at or above a name, with the addresses that came along of those below it, sorted, and the TTL of the NS set.
func refersTo(m Reply, name dnsname.Name) (data []record.Data, ttl uint32) {
	var cut dnsname.Name
	for _, rr := range m.Ns {
		r, err := record.FromRR(rr)
		if err == nil && r.Type == record.NS && name.IsAtOrBelow(r.Name) {
			cut = r.Name
			data, ttl = append(data, r.Data), max(ttl, r.TTL)
		}
	}
	for _, rr := range m.Extra {
		r, err := record.FromRR(rr)
		if err == nil && (r.Type == record.A || r.Type == record.AAAA) && r.Name.IsAtOrBelow(cut) {
			data = append(data, record.Data(r.Name.String()+" "+string(r.Data)))
		}
	}
	slices.Sort(data)
	return slices.Compact(data), ttl
}

// refersAt reports whether an authority section delegates a name, or one above it.
func refersAt(authority []dns.RR, name dnsname.Name) bool {
	for _, rr := range authority {
		at, err := dnsname.Parse(rr.Header().Name)
		if err == nil && rr.Header().Rrtype == dns.TypeNS && !at.IsRoot() && name.IsAtOrBelow(at) {
			return true
		}
	}
	return false
}

// observed reads the whole chain of an answer: the data at its end, or the last CNAME where it leads elsewhere, and the TTL on the way that
// counts: from a nameserver the largest, for a cache may hold each link that long, from a cache the least that remains.
func observed(key record.Key, m Reply, err error, cached bool) evidence.Observed {
	o := evidence.Observed{Key: key}
	switch {
	case err != nil:
		o.Answer = evidence.Silent
		return o
	case m.Rcode == dns.RcodeNameError:
		o.Answer = evidence.NoName
		return o
	case m.Rcode != dns.RcodeSuccess || !cached && !m.Authoritative:
		o.Answer = evidence.Lame
		return o
	}
	var alias []record.Data
	first := true
	for _, rr := range m.Answer {
		if rr.Header().Rrtype == dns.TypeRRSIG {
			continue
		}
		r, err := record.FromRR(rr)
		if err != nil {
			continue
		}
		if first || cached && r.TTL < o.TTL || !cached && r.TTL > o.TTL {
			o.TTL = r.TTL
		}
		first = false
		if r.Type == key.Type {
			o.Data = append(o.Data, r.Data)
		} else if r.Type == record.CNAME {
			alias = []record.Data{r.Data}
			o.Alias = o.Alias || r.Name == key.Name
		}
	}
	if o.Answer = evidence.Positive; len(o.Data) == 0 {
		if _, _, ends := soaIn(m.Ns, dnsname.Name{}, ""); !ends { // the chain leads elsewhere; else it is known to end in nothing
			o.Data = alias
		}
	}
	if len(o.Data) == 0 {
		o.Answer = evidence.NoData
	}
	slices.Sort(o.Data)
	return o
}

// Resolver is a caching resolver to ask.
type Resolver struct {
	Name      string    `yaml:"name" json:"name"`
	Address   string    `yaml:"address" json:"address"`                           // IP address and port; for https a URL
	Transport Transport `yaml:"transport" json:"transport,omitempty"`             // udp, tcp, tls or https; udp where it is not said
	TLSName   string    `yaml:"certificate_for" json:"certificate_for,omitempty"` // the name in its certificate, where that is not the address
	Group     string    `yaml:"group" json:"group,omitempty"`                     // such as "our office"
}

// Endpoint is where the resolver is asked.
func (r Resolver) Endpoint() (Endpoint, error) {
	e := Endpoint{Transport: r.Transport, TLSName: r.TLSName}
	switch r.Transport {
	case OverHTTPS:
		e.URL = r.Address
		return e, nil
	case "", OverUDP, OverTCP, OverTLS:
		at, err := netip.ParseAddrPort(r.Address)
		e.Address = at
		return e, err
	}
	return e, fmt.Errorf("%q is no transport; use udp, tcp, tls or https", r.Transport)
}

// cache is a resolver in the middle of being asked.
type cache struct {
	w *walk
	e Endpoint
	a *evidence.ResolverAnswer
}

func (c cache) ask(ctx context.Context, name dnsname.Name, t uint16, unchecked bool) (Reply, error) {
	if c.w.asked.Add(1) > maxQuestions {
		return Reply{}, errTooMany
	}
	q := Question{Name: name.String(), Type: t, Recurse: true, Signed: c.w.s.judgesSignatures(), Unchecked: unchecked}
	m, err := c.w.s.Client.AskVia(ctx, c.e, q)
	c.w.tape.keep(c.w.s.Now, evidence.Server{Address: c.a.Address}, q, m, err)
	return m, err
}

// probe asks a caching resolver without disturbing what it holds: never for NS, and for a random name of a private type, whose negative
// answer shows the SOA of the zone as the resolver reaches it.
func (w *walk) probe(ctx context.Context, r Resolver, domain dnsname.Name) (c cache) {
	c = cache{w: w, a: &evidence.ResolverAnswer{Name: r.Name, Address: r.Address, Group: r.Group}}
	a := c.a
	var err error
	if c.e, err = r.Endpoint(); err != nil {
		a.At, a.Problem = w.s.Now(), err.Error()
		return c
	}
	label, err := domain.Child(randomLabel())
	if err != nil {
		a.At, a.Problem = w.s.Now(), err.Error()
		return c
	}
	m, err := c.ask(ctx, label, probeType, false)
	a.At = w.s.Now()
	if err != nil {
		a.Problem = err.Error()
		return c
	}
	a.Explained, a.Proven = explained(m.Msg), m.AuthenticatedData
	if m.Rcode != dns.RcodeSuccess && m.Rcode != dns.RcodeNameError {
		a.Rcode = dns.RcodeToString[m.Rcode]
		if m.Rcode == dns.RcodeServerFailure { // does it give the answer to who does not want it checked?
			if open, err := c.ask(ctx, label, probeType, true); err == nil && (open.Rcode == dns.RcodeSuccess || open.Rcode == dns.RcodeNameError) {
				a.Refuses, m = true, open
			}
		}
		if !a.Refuses {
			a.Problem = "it answers " + a.Rcode
			if len(a.Explained) > 0 {
				a.Problem += ", " + a.Explained[0]
			}
			return c
		}
	}
	if soa, owner, ok := soaIn(m.Ns, dnsname.Name{}, ""); ok && owner == domain && len(m.Answer) == 0 {
		a.SOA = &soa
	}
	return c
}

// watch asks a resolver for record sets, twice, for many machines may stand behind one address.
func (c cache) watch(ctx context.Context, keys []record.Key) {
	if c.a.Problem != "" {
		return
	}
	c.a.Sets = make([]evidence.Observed, len(keys))
	again := make([]evidence.Observed, len(keys))
	inParallel(2*len(keys), func(i int) {
		key := keys[i/2]
		m, err := c.ask(ctx, key.Name, uint16(key.Type), c.a.Refuses)
		if o := observed(key, m, err, true); i%2 == 0 {
			c.a.Sets[i/2] = o
		} else {
			again[i/2] = o
		}
	})
	c.a.At = c.w.s.Now()
	for i, o := range again {
		if o.Answer != c.a.Sets[i].Answer || !slices.Equal(o.Data, c.a.Sets[i].Data) {
			c.a.Again = append(c.a.Again, o)
		}
	}
}

// existing returns the watched sets that every server which knows the zone has. One that is about to come must not be asked for:
// caches would keep that it is not there.
func existing(servers []evidence.ServerAnswer, watched []record.Key) (keys []record.Key) {
	for _, key := range watched {
		has, lacks := false, false
		for _, a := range servers {
			for _, o := range a.Sets {
				if o.Key == key {
					has = has || o.Answer == evidence.Positive
					lacks = lacks || o.Answer == evidence.NoData || o.Answer == evidence.NoName
				}
			}
		}
		if has && !lacks {
			keys = append(keys, key)
		}
	}
	return keys
}
