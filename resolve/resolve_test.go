package resolve

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/record"
	"beacon/practice"
	"beacon/practice/practicetest"
	"beacon/reach"
)

var domain = dnsname.MustParse("saltmarsh-ferries.example")

func newClient(t *testing.T) *Client {
	t.Helper()
	c, err := NewClient(reach.Loopback(), Options{Timeout: 300 * time.Millisecond})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

func newSweeper(t *testing.T, w *practice.World) *Sweeper {
	t.Helper()
	at := netip.MustParseAddrPort(w.DNSAddress("0.1"))
	hints, err := ReadHints(w.RootHints(), at.Port())
	require.NoError(t, err)
	s := &Sweeper{Client: newClient(t), Hints: hints, Port: at.Port(), Now: w.Now}
	for _, r := range w.Resolvers() {
		s.Resolvers = append(s.Resolvers, Resolver{Name: r.Name, Address: r.Address})
	}
	return s
}

// hosted makes the domain at Plover and registers it there.
func hosted(t *testing.T, w *practice.World, records string) []string {
	t.Helper()
	send := func(method, path, body string) http.Header {
		req, err := http.NewRequest(method, w.URL("plover")+path, bytes.NewReader([]byte(body)))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Plover plover-practice-key")
		if body != "" {
			get := req.Clone(context.Background())
			get.Method, get.Body, get.ContentLength = "GET", nil, 0
			res, err := http.DefaultClient.Do(get)
			require.NoError(t, err)
			res.Body.Close()
			req.Header.Set("If-Match", res.Header.Get("ETag"))
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		require.Less(t, res.StatusCode, 300)
		return res.Header
	}
	send("PUT", "/dns/zones/"+domain.String(), "")
	send("PUT", "/dns/zones/"+domain.String()+"/file", records)
	hosts := []string{"reed-11.plover.test.", "reed-14.plover.test."}
	require.NoError(t, w.Register(domain.String(), hosts, 1200))
	return hosts
}

func TestSweepOfAHealthyDomain(t *testing.T) {
	w := practicetest.Start(t, 1)
	hosts := hosted(t, w, "@ 300 A 192.0.2.1\nwww 60 CNAME @\n")
	s := newSweeper(t, w)
	got := s.Sweep(context.Background(), domain, Scope{Watched: delegation.Watched(domain, nil)})
	require.Empty(t, got.Failure)
	assert.Equal(t, "example.", got.Zone.String())
	require.Len(t, got.Parents, 2)
	for _, p := range got.Parents {
		assert.Equal(t, evidence.Referral, p.Answer)
		assert.EqualValues(t, 1200, p.TTL)
		assert.Equal(t, hosts, []string{p.NS[0].String(), p.NS[1].String()})
	}
	require.Len(t, got.Servers, 2)
	for _, a := range got.Servers {
		assert.Equal(t, evidence.Positive, a.Answer, a.Problem)
		assert.Empty(t, a.NoTCP)
		assert.EqualValues(t, 600, a.NSTTL)
		assert.EqualValues(t, 300, a.SOA.Negative)
		require.Len(t, a.Sets, 4)
		assert.EqualValues(t, 300, a.Sets[2].TTL, "the worst of the chain: a cache may hold it that long")
		assert.Equal(t, []record.Data{"192.0.2.1"}, a.Sets[2].Data)
	}
	require.Len(t, got.Resolvers, 3)
	for _, r := range got.Resolvers {
		require.NotNil(t, r.SOA, r.Name)
		assert.Contains(t, r.SOA.Primary.String(), "plover.test.")
		assert.Equal(t, evidence.Positive, r.Sets[0].Answer)
	}
}

func TestSweepTellsWhatIsWrong(t *testing.T) {
	w := practicetest.Start(t, 1)
	hosts := hosted(t, w, "@ 300 A 192.0.2.1\n")
	require.NoError(t, w.Register(domain.String(), []string{hosts[0], "reed-12.plover.test", "reed-99.plover.test"}, 60))
	s := newSweeper(t, w)
	got := s.Sweep(context.Background(), domain, Scope{})
	require.Len(t, got.NoAddress, 1)
	assert.Equal(t, "the name does not exist", got.NoAddress[0].Problem)
	require.Len(t, got.Servers, 2)
	assert.Equal(t, evidence.Lame, got.Servers[1].Answer)
	assert.Equal(t, "REFUSED", got.Servers[1].Problem)

	nobody := s.Sweep(context.Background(), dnsname.MustParse("nobody.example"), Scope{})
	assert.Empty(t, nobody.Failure)
	assert.Equal(t, evidence.NoName, nobody.Parents[0].Answer)
	assert.EqualValues(t, 300, nobody.Parents[0].Negative)

	s.Hints = Hints{{Name: dnsname.MustParse("dark.test"), Address: "127.0.0.1:9"}}
	assert.Contains(t, s.Sweep(context.Background(), domain, Scope{}).Failure, "root")
	s.Hints = Hints{{Name: dnsname.MustParse("outside.test"), Address: "192.0.2.53:53"}}
	assert.Contains(t, s.Sweep(context.Background(), domain, Scope{}).Failure, reach.ErrRefused.Error())
}

// serve runs a UDP and TCP server that does with each question what respond says, and gives its address.
func serve(t *testing.T, respond func(rw dns.ResponseWriter, q *dns.Msg)) netip.AddrPort {
	t.Helper()
	var packet net.PacketConn
	var stream net.Listener
	for range 20 { // a port that is free for UDP may be taken for TCP
		var err error
		packet, err = net.ListenPacket("udp", "127.0.0.1:0")
		require.NoError(t, err)
		if stream, err = net.Listen("tcp", packet.LocalAddr().String()); err == nil {
			break
		}
		packet.Close()
	}
	require.NotNil(t, stream)
	for _, s := range []*dns.Server{{PacketConn: packet, Handler: dns.HandlerFunc(respond)}, {Listener: stream, Handler: dns.HandlerFunc(respond)}} {
		started := make(chan struct{})
		s.NotifyStartedFunc = func() { close(started) }
		go func() { _ = s.ActivateAndServe() }()
		<-started
		t.Cleanup(func() { _ = s.Shutdown() })
	}
	return netip.MustParseAddrPort(packet.LocalAddr().String())
}

func overUDP(rw dns.ResponseWriter) bool { return rw.RemoteAddr().Network() == "udp" }

// Answers that are not to the question asked are no answers, however many come.
func TestWrongAnswersDoNotCount(t *testing.T) {
	for name, spoil := range map[string]func(*dns.Msg){
		"id":          func(m *dns.Msg) { m.Id++ },
		"name":        func(m *dns.Msg) { m.Question[0].Name = "other.example." },
		"type":        func(m *dns.Msg) { m.Question[0].Qtype = dns.TypeMX },
		"no question": func(m *dns.Msg) { m.Question = nil },
		"a question":  func(m *dns.Msg) { m.Response = false },
	} {
		t.Run(name, func(t *testing.T) {
			at := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
				wrong := new(dns.Msg).SetReply(q)
				spoil(wrong)
				_ = rw.WriteMsg(wrong)
			})
			_, err := newClient(t).Ask(context.Background(), at, Question{Name: "a.example.", Type: dns.TypeA})
			assert.ErrorIs(t, err, ErrNoAnswer)
		})
	}
}

func TestFallBacks(t *testing.T) {
	ctx, q := context.Background(), Question{Name: "a.example.", Type: dns.TypeTXT}
	big := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg).SetReply(q)
		for i := range 40 {
			rr, _ := dns.NewRR(fmt.Sprintf("a.example. 60 TXT %q", strings.Repeat("x", 100)+fmt.Sprint(i)))
			m.Answer = append(m.Answer, rr)
		}
		if overUDP(rw) {
			m.Truncate(512)
		}
		_ = rw.WriteMsg(m)
	})
	m, err := newClient(t).Ask(ctx, big, q)
	require.NoError(t, err)
	assert.Len(t, m.Answer, 40, "a truncated answer is fetched over TCP")

	old := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg).SetReply(q)
		if q.IsEdns0() != nil {
			m.Rcode = dns.RcodeFormatError
		}
		_ = rw.WriteMsg(m)
	})
	m, err = newClient(t).Ask(ctx, old, q)
	require.NoError(t, err)
	assert.Equal(t, dns.RcodeSuccess, m.Rcode, "a server from before EDNS is asked without")

	var tries atomic.Int32
	forgetful := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
		if tries.Add(1) > 1 {
			_ = rw.WriteMsg(new(dns.Msg).SetReply(q))
		}
	})
	_, err = newClient(t).Ask(ctx, forgetful, q)
	assert.NoError(t, err, "a lost datagram is sent again")
}

func TestCancelledAtOnce(t *testing.T) {
	at := serve(t, func(dns.ResponseWriter, *dns.Msg) {})
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err := newClient(t).Ask(ctx, at, Question{Name: "a.example.", Type: dns.TypeA})
	assert.ErrorIs(t, err, context.Canceled)
}

// A server that refers in circles, or to ever deeper names of its own, costs a bounded number of questions.
func TestReferralsEnd(t *testing.T) {
	var asked atomic.Int32
	at := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
		round := asked.Add(1)
		m := new(dns.Msg).SetReply(q)
		for i := range 10 {
			rr, _ := dns.NewRR(fmt.Sprintf("example. 60 NS n%d-%d.example.", round, i))
			m.Ns = append(m.Ns, rr)
		}
		_ = rw.WriteMsg(m)
	})
	s := &Sweeper{Client: newClient(t), Hints: Hints{{Name: dnsname.MustParse("x.test"), Address: at.String()}}, Port: at.Port(), Now: time.Now}
	got := s.Sweep(context.Background(), domain, Scope{})
	assert.NotEmpty(t, got.Failure)
	assert.LessOrEqual(t, int(asked.Load()), maxQuestions)
}

func TestReadHints(t *testing.T) {
	_, err := ReadHints("nonsense", 53)
	assert.Error(t, err)
	_, err = ReadHints(". 60 NS a.example.\n", 53)
	assert.ErrorContains(t, err, "no address")
}

func BenchmarkAsk(b *testing.B) {
	c, err := NewClient(reach.Loopback(), Options{PerSecond: -1})
	if err != nil {
		b.Fatal(err)
	}
	defer c.Close()
	w := practicetest.Start(b, 1)
	at := netip.MustParseAddrPort(w.DNSAddress("0.1"))
	b.SetParallelism(32)
	b.RunParallel(func(pb *testing.PB) {
		for pb.Next() {
			if _, err := c.Ask(context.Background(), at, Question{Name: "example.", Type: dns.TypeNS}); err != nil {
				b.Error(err)
			}
		}
	})
}
