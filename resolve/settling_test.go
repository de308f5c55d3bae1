package resolve

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/reach"
	"beacon/resolve/peerstest"
)

// move is one domain that moves from old to new nameservers.
type move struct {
	domain  string
	p, c, r uint32 // TTL of the delegation, of the NS set at the old servers, of the address
	told    bool   // the old servers learn the new set some time

	mu       sync.Mutex
	switched bool
	learned  bool
	lastOld  map[string]time.Time // by cache: when the last old answer came
}

func (m *move) state() (switched, learned bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.switched, m.learned
}

// scene answers for root, registry, and the old and the new host of the domains.
type scene struct {
	l     *peerstest.Lab
	moves map[string]*move
}

const (
	oldHost, newHost = "2.1", "3.1"
)

func line(format string, args ...any) dns.RR {
	out, err := dns.NewRR(fmt.Sprintf(format, args...))
	if err != nil {
		panic(err)
	}
	return out
}

// serveAt answers at an address of the scene over UDP and TCP.
func (s *scene) serveAt(t *testing.T, site string, respond func(q dns.Question, m *dns.Msg)) {
	t.Helper()
	handler := dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg).SetReply(q)
		respond(q.Question[0], m)
		if q.IsEdns0() != nil {
			m.SetEdns0(1232, false)
		}
		_ = w.WriteMsg(m)
	})
	packet, err := net.ListenPacket("udp", s.l.At(site))
	require.NoError(t, err)
	stream, err := net.Listen("tcp", s.l.At(site))
	require.NoError(t, err)
	for _, server := range []*dns.Server{{PacketConn: packet, Handler: handler}, {Listener: stream, Handler: handler}} {
		started := make(chan struct{})
		server.NotifyStartedFunc = func() { close(started) }
		go func() { _ = server.ActivateAndServe() }()
		<-started
		t.Cleanup(func() { _ = server.Shutdown() })
	}
}

func (s *scene) domainOf(name string) *move {
	labels := dns.SplitDomainName(name)
	if len(labels) < 2 {
		return nil
	}
	return s.moves[dns.CanonicalName(strings.Join(labels[len(labels)-2:], ".")+".")]
}

func (s *scene) root(q dns.Question, m *dns.Msg) {
	if strings.EqualFold(q.Name, ".") {
		m.Authoritative = true
		m.Answer = append(m.Answer, line(". 3600 NS a.root."))
		return
	}
	m.Ns = append(m.Ns, line("example. 3600 NS a.nic.example."))
	m.Extra = append(m.Extra, line("a.nic.example. 3600 A %s", s.l.IP(peerstest.Registry)))
}

func (s *scene) registry(q dns.Question, m *dns.Msg) {
	name := dns.CanonicalName(q.Name)
	soa := line("example. 300 SOA a.nic.example. hostmaster.nic.example. 1 7200 3600 1209600 300")
	if name == "example." || strings.HasSuffix(name, ".nic.example.") {
		m.Authoritative = true
		switch {
		case name == "example." && q.Qtype == dns.TypeNS:
			m.Answer = append(m.Answer, line("example. 3600 NS a.nic.example."))
		case q.Qtype == dns.TypeA && strings.HasPrefix(name, "old"):
			m.Answer = append(m.Answer, line("%s 3600 A %s", name, s.l.IP(oldHost)))
		case q.Qtype == dns.TypeA && strings.HasPrefix(name, "new"):
			m.Answer = append(m.Answer, line("%s 3600 A %s", name, s.l.IP(newHost)))
		case q.Qtype == dns.TypeA && strings.HasPrefix(name, "a."):
			m.Answer = append(m.Answer, line("%s 3600 A %s", name, s.l.IP(peerstest.Registry)))
		default:
			m.Ns = append(m.Ns, soa)
		}
		return
	}
	d := s.domainOf(name)
	if d == nil {
		m.Authoritative, m.Rcode, m.Ns = true, dns.RcodeNameError, []dns.RR{soa}
		return
	}
	host, at := "old", oldHost
	if switched, _ := d.state(); switched {
		host, at = "new", newHost
	}
	m.Ns = append(m.Ns, line("%s %d NS %s.nic.example.", d.domain, d.p, host))
	m.Extra = append(m.Extra, line("%s.nic.example. 3600 A %s", host, s.l.IP(at)))
}

// host answers for the domains as the old or the new host has them.
func (s *scene) host(own string) func(dns.Question, *dns.Msg) {
	return func(q dns.Question, m *dns.Msg) {
		d := s.domainOf(q.Name)
		if d == nil {
			m.Rcode = dns.RcodeRefused
			return
		}
		m.Authoritative = true
		set, address := own, "192.0.2.1"
		if _, learned := d.state(); own == "new" || learned {
			set = "new"
		}
		if own == "new" {
			address = "192.0.2.2"
		}
		ns := line("%s %d NS %s.nic.example.", d.domain, d.c, set)
		soa := line("%s 60 SOA %s.nic.example. hostmaster.nic.example. 1 7200 3600 1209600 1", d.domain, own)
		switch apex := dns.CanonicalName(q.Name) == d.domain; {
		case apex && q.Qtype == dns.TypeNS:
			m.Answer = append(m.Answer, ns)
		case apex && q.Qtype == dns.TypeSOA:
			m.Answer = append(m.Answer, soa)
		case apex && q.Qtype == dns.TypeA:
			m.Answer = append(m.Answer, line("%s %d A %s", d.domain, d.r, address))
			m.Ns = append(m.Ns, ns)
		case apex:
			m.Ns = append(m.Ns, soa)
		default:
			m.Rcode = dns.RcodeNameError
			m.Ns = append(m.Ns, soa)
		}
	}
}

// Twenty domains with random TTLs move at the same time, half of them from servers that never tell of the new set. Two real
// caches, filled just before, are watched from outside: the bound is never before the last old answer, and the last estimate
// that was made while a cache was still old is right within one poll; for a cache that fetches ahead, it is not early. Where there is no bound for some, the report says so.
func TestSettlingWithRealCaches(t *testing.T) {
	if !peerstest.InNamespace(t) {
		return
	}
	const domains, poll = 20, time.Second
	seed := rand.Uint64()
	rng := rand.New(rand.NewPCG(seed, 0))
	t.Logf("seed %d", seed)
	s := &scene{l: peerstest.New(t), moves: map[string]*move{}}
	var list []*move
	for i := range domains {
		d := &move{domain: fmt.Sprintf("pier-%02d.example.", i), p: 2 + rng.Uint32N(9), c: 2 + rng.Uint32N(9), r: 1 + rng.Uint32N(6), told: i%2 == 0, lastOld: map[string]time.Time{}}
		s.moves[d.domain] = d
		list = append(list, d)
	}
	s.serveAt(t, peerstest.Root, s.root)
	s.serveAt(t, peerstest.Registry, s.registry)
	s.serveAt(t, oldHost, s.host("old"))
	s.serveAt(t, newHost, s.host("new"))
	s.l.Hints = fmt.Sprintf(". 3600 NS a.root.\na.root. 3600 A %s\n", s.l.IP(peerstest.Root))
	caches := map[string]string{"plain": "8.1", "early": "8.2"}
	s.l.Cache("8.1")
	s.l.Cache("8.2", "prefetch: yes")

	hints, err := ReadHints(s.l.Hints, 53)
	require.NoError(t, err)
	client, err := NewClient(reach.Loopback(), Options{PerSecond: -1})
	require.NoError(t, err)
	t.Cleanup(client.Close)
	sweeper := &Sweeper{Client: client, Hints: hints, Port: 53, Now: time.Now}
	for name, site := range caches {
		sweeper.Resolvers = append(sweeper.Resolvers, Resolver{Name: name, Address: s.l.At(site)})
	}
	var group sync.WaitGroup
	for _, d := range list {
		learns := time.Duration(rng.IntN(6000)) * time.Millisecond
		group.Go(func() { s.follow(t, d, sweeper, caches, learns, poll) })
	}
	group.Wait()
}

// follow takes one domain through its move.
func (s *scene) follow(t *testing.T, d *move, sweeper *Sweeper, caches map[string]string, learns, poll time.Duration) {
	domain := dnsname.MustParse(d.domain)
	var history delegation.History
	look := func() delegation.Report {
		sweep := sweeper.Sweep(context.Background(), domain, Scope{Nameservers: []dnsname.Name{dnsname.MustParse("old.nic.example"), dnsname.MustParse("new.nic.example")}, Watched: delegation.Watched(domain, nil)[:1]})
		history = delegation.Advance(history, sweep)
		return delegation.Judge(delegation.Plan{Domain: domain}, history, sweep)
	}
	look()
	for _, site := range caches {
		if !assert.True(t, d.ask(s.l.At(site)), "%s was not filled", d.domain) {
			return
		}
	}
	d.mu.Lock()
	d.switched = true
	d.mu.Unlock()
	ctx, stop := context.WithCancel(context.Background())
	var watching sync.WaitGroup
	for name, site := range caches {
		watching.Go(func() {
			for ctx.Err() == nil {
				at := time.Now()
				if d.ask(s.l.At(site)) {
					d.mu.Lock()
					d.lastOld[name] = at
					d.mu.Unlock()
				}
				time.Sleep(100 * time.Millisecond)
			}
		})
	}
	if d.told {
		time.AfterFunc(learns, func() { d.mu.Lock(); d.learned = true; d.mu.Unlock() })
	}
	predicted := map[string]time.Time{}
	var bound time.Time
	unbounded := false
	for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(poll) {
		r := look()
		for _, m := range r.Moments {
			unbounded = unbounded || m.Except != ""
		}
		if r.SettlesBy != nil && r.SettlesBy.After(bound) {
			bound = *r.SettlesBy
		}
		for _, v := range r.Resolvers {
			if v.Follow != nil && v.Follow.FirstNew == nil && v.Follow.Predicted != nil {
				predicted[v.Name] = *v.Follow.Predicted
			}
		}
		if r.Verdict == delegation.Settled {
			break
		}
		if !assert.Less(t, time.Now(), deadline, "%s: %+v", d.domain, r.Findings) {
			break
		}
	}
	stop()
	watching.Wait()
	for name := range caches {
		assert.True(t, bound.After(d.lastOld[name]), "%s at %s: old after the bound; p %d, c %d, r %d", d.domain, name, d.p, d.c, d.r)
		if at, ok := predicted[name]; ok {
			off := at.Sub(d.lastOld[name]) // positive: later than it happened
			text := fmt.Sprintf("%s at %s: p %d, c %d, r %d, told %v: the last estimate was %s off", d.domain, name, d.p, d.c, d.r, d.told, off.Round(10*time.Millisecond))
			assert.GreaterOrEqual(t, off, -poll, text)
			if name == "plain" { // one that fetches ahead comes over earlier than anybody can know
				assert.LessOrEqual(t, off, poll, text)
			}
		}
	}
	if !d.told {
		assert.True(t, unbounded, "%s: nothing is said of those that no time binds", d.domain)
	}
}

// ask asks a cache for the address, and tells whether the answer is the old one.
func (d *move) ask(at string) bool {
	m, _, err := (&dns.Client{Timeout: 2 * time.Second}).Exchange(new(dns.Msg).SetQuestion(d.domain, dns.TypeA), at)
	return err == nil && len(m.Answer) > 0 && m.Answer[0].(*dns.A).A.String() == "192.0.2.1"
}
