package resolve

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/reach"
)

// longestCheck is how long a check may take, whatever the servers do.
const longestCheck = 8 * time.Second

// oddServer answers for the zone "pier." as it should, but for what makes it odd.
type oddServer struct {
	name    string
	udp     func(rw dns.ResponseWriter, q *dns.Msg, right func()) // nil answers right
	tcp     func(rw dns.ResponseWriter, q *dns.Msg, right func())
	answer  evidence.Answer
	finding string
}

func late(by time.Duration) func(dns.ResponseWriter, *dns.Msg, func()) {
	return func(_ dns.ResponseWriter, _ *dns.Msg, right func()) { time.Sleep(by); right() }
}

func never(dns.ResponseWriter, *dns.Msg, func()) {}

func oddServers(elsewhere net.PacketConn) []oddServer {
	return []oddServer{
		{"healthy", nil, nil, evidence.Positive, ""},
		{"slow", late(1500 * time.Millisecond), late(1500 * time.Millisecond), evidence.Positive, "nameserver-slow"},
		{"very slow", late(2500 * time.Millisecond), late(2500 * time.Millisecond), evidence.Positive, "nameserver-slow"},
		{"without UDP", never, nil, evidence.Positive, "no-udp"},
		{"without TCP", nil, never, evidence.Positive, "no-tcp"},
		{"drops EDNS", func(_ dns.ResponseWriter, q *dns.Msg, right func()) {
			if q.IsEdns0() == nil {
				right()
			}
		}, nil, evidence.Positive, "no-edns"},
		{"drops EDNS, without TCP", func(_ dns.ResponseWriter, q *dns.Msg, right func()) {
			if q.IsEdns0() == nil {
				right()
			}
		}, never, evidence.Positive, "no-edns"},
		{"answers from elsewhere", func(rw dns.ResponseWriter, q *dns.Msg, _ func()) {
			b, _ := zoneAnswer(q).Pack()
			_, _ = elsewhere.WriteTo(b, rw.RemoteAddr())
		}, never, evidence.Silent, "wrong-source"},
		{"cuts off, without TCP", func(rw dns.ResponseWriter, q *dns.Msg, _ func()) {
			m := new(dns.Msg).SetReply(q)
			m.Truncated = true
			_ = rw.WriteMsg(m)
		}, never, evidence.Silent, "nameserver-silent"},
		{"silent", never, never, evidence.Silent, "nameserver-silent"},
	}
}

// zoneAnswer answers as a right server of "pier." does.
func zoneAnswer(q *dns.Msg) *dns.Msg {
	m := new(dns.Msg).SetReply(q)
	m.Authoritative = true
	name := strings.ToLower(q.Question[0].Name)
	soa := line("pier. 60 SOA good.pier. host.pier. 1 7200 3600 1209600 60")
	switch t := q.Question[0].Qtype; {
	case name == "pier." && t == dns.TypeSOA:
		m.Answer = []dns.RR{soa}
	case name == "pier." && t == dns.TypeNS:
		m.Answer = []dns.RR{line("pier. 3600 NS good.pier."), line("pier. 3600 NS odd.pier.")}
	case (name == "good.pier." || name == "odd.pier.") && t == dns.TypeA:
		m.Answer = []dns.RR{line("%s 3600 A %s", name, map[string]string{"good.pier.": "127.0.8.2", "odd.pier.": "127.0.8.3"}[name])}
	default:
		if name != "pier." && name != "good.pier." && name != "odd.pier." {
			m.Rcode = dns.RcodeNameError
		}
		m.Ns = []dns.RR{soa}
	}
	if q.IsEdns0() != nil {
		m.SetEdns0(1232, false)
	}
	return m
}

// serveAt runs a server on UDP and TCP of an address.
func serveAt(t *testing.T, at string, udp, tcp dns.HandlerFunc) {
	t.Helper()
	packet, err := net.ListenPacket("udp4", at)
	require.NoError(t, err)
	stream, err := net.Listen("tcp4", at)
	require.NoError(t, err)
	for _, s := range []*dns.Server{{PacketConn: packet, Handler: udp}, {Listener: stream, Handler: tcp}} {
		started := make(chan struct{})
		s.NotifyStartedFunc = func() { close(started) }
		go func() { _ = s.ActivateAndServe() }()
		<-started
		t.Cleanup(func() { _ = s.Shutdown() })
	}
}

// Servers of all odd kinds are judged right within eight seconds, as a nameserver and as one of the parent's: one that is slow is not
// lame, and what was learned of a server is not learned again for each question.
func TestOddServers(t *testing.T) {
	elsewhere, err := net.ListenPacket("udp4", "127.0.8.4:0")
	require.NoError(t, err)
	defer elsewhere.Close()
	var wait sync.WaitGroup
	for _, o := range oddServers(elsewhere) {
		for _, odd := range []string{"nameserver", "parent"} {
			port := netip.MustParseAddrPort(serve(t, func(dns.ResponseWriter, *dns.Msg) {}).String()).Port() // free on the other addresses, most likely
			at := func(n int) string { return fmt.Sprintf("127.0.8.%d:%d", n, port) }
			right := func(rw dns.ResponseWriter, q *dns.Msg) { _ = rw.WriteMsg(zoneAnswer(q)) }
			refer := func(rw dns.ResponseWriter, q *dns.Msg) {
				m := new(dns.Msg).SetReply(q)
				m.Ns = []dns.RR{line("pier. 3600 NS good.pier."), line("pier. 3600 NS odd.pier.")}
				m.Extra = []dns.RR{line("good.pier. 3600 A 127.0.8.2"), line("odd.pier. 3600 A 127.0.8.3")}
				if q.IsEdns0() != nil {
					m.SetEdns0(1232, false)
				}
				_ = rw.WriteMsg(m)
			}
			oddly := func(how func(dns.ResponseWriter, *dns.Msg, func()), right dns.HandlerFunc) dns.HandlerFunc {
				if how == nil {
					return right
				}
				return func(rw dns.ResponseWriter, q *dns.Msg) { how(rw, q, func() { right(rw, q) }) }
			}
			serveAt(t, at(1), refer, refer)
			serveAt(t, at(2), right, right)
			hints := Hints{{Name: dnsname.MustParse("a.root"), Address: at(1)}}
			if odd == "parent" {
				serveAt(t, at(5), oddly(o.udp, refer), oddly(o.tcp, refer))
				serveAt(t, at(3), right, right)
				hints = append(hints, evidence.Server{Name: dnsname.MustParse("b.root"), Address: at(5)})
			} else {
				serveAt(t, at(3), oddly(o.udp, right), oddly(o.tcp, right))
			}
			wait.Go(func() {
				c, err := NewClient(reach.Loopback(), Options{PerSecond: -1})
				if !assert.NoError(t, err) {
					return
				}
				defer c.Close()
				s := &Sweeper{Client: c, Hints: hints, Port: port, Now: time.Now}
				began := time.Now()
				sweep := s.Sweep(context.Background(), dnsname.MustParse("pier"), Scope{Watched: delegation.Watched(dnsname.MustParse("pier"), nil), Ours: []dnsname.Name{dnsname.MustParse("odd.pier")}})
				took := time.Since(began)
				t.Logf("%-26s %-10s %.1f s", o.name, odd, took.Seconds())
				assert.Less(t, took, longestCheck, "%s %s", o.name, odd)
				r := delegation.Judge(delegation.Plan{Domain: dnsname.MustParse("pier")}, delegation.Advance(delegation.History{}, sweep), sweep)
				var codes []string
				for _, f := range r.Findings {
					codes = append(codes, f.Code)
					if o.name == "healthy" && f.Severity > finding.Notice && f.Code != "nameservers-one-network" {
						assert.Fail(t, "a healthy domain draws a finding", "%s", f)
					}
				}
				if odd == "parent" {
					return
				}
				at := slices.IndexFunc(sweep.Servers, func(a evidence.ServerAnswer) bool { return a.Name == dnsname.MustParse("odd.pier") })
				if assert.GreaterOrEqual(t, at, 0, o.name) {
					assert.Equal(t, o.answer, sweep.Servers[at].Answer, "%s: %s", o.name, sweep.Servers[at].Problem)
				}
				if o.finding != "" {
					assert.Contains(t, codes, o.finding, o.name)
				}
			})
		}
	}
	wait.Wait()
}
