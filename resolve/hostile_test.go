package resolve

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net"
	"net/netip"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/dnsname"
)

// raw runs a UDP server that sends whatever octets respond gives, each as a datagram of its own, and a TCP one that does what
// stream does with a connection.
func raw(t *testing.T, respond func(q []byte) [][]byte, stream func(net.Conn)) netip.AddrPort {
	t.Helper()
	var packet net.PacketConn
	var listener net.Listener
	for range 20 {
		var err error
		packet, err = net.ListenPacket("udp4", "127.0.0.1:0")
		require.NoError(t, err)
		if listener, err = net.Listen("tcp4", packet.LocalAddr().String()); err == nil {
			break
		}
		packet.Close()
	}
	require.NotNil(t, listener)
	t.Cleanup(func() { packet.Close(); listener.Close() })
	go func() {
		buf := make([]byte, 4096)
		for {
			n, from, err := packet.ReadFrom(buf)
			if err != nil {
				return
			}
			for _, b := range respond(append([]byte(nil), buf[:n]...)) {
				_, _ = packet.WriteTo(b, from)
			}
		}
	}()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			if stream == nil {
				conn.Close()
				continue
			}
			go stream(conn)
		}
	}()
	return netip.MustParseAddrPort(packet.LocalAddr().String())
}

// head is the beginning of an answer to a question: its header and question.
func head(q []byte, answers int) []byte {
	end := headerLen
	for q[end] != 0 {
		end += int(q[end]) + 1
	}
	b := append([]byte(nil), q[:end+5]...)
	b[2] |= 0x84
	binary.BigEndian.PutUint16(b[6:], uint16(answers))
	binary.BigEndian.PutUint16(b[8:], 0)
	binary.BigEndian.PutUint16(b[10:], 0)
	return b
}

// Whatever comes back, asking ends soon, with an error or with what was really said.
func TestHostileAnswers(t *testing.T) {
	question := Question{Name: "a.example.", Type: dns.TypeA}
	good := func(q []byte) []byte {
		m := new(dns.Msg)
		_ = m.Unpack(q)
		r := new(dns.Msg).SetReply(m)
		r.Authoritative = true
		r.Answer = []dns.RR{&dns.A{Hdr: dns.RR_Header{Name: m.Question[0].Name, Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 60}, A: net.IPv4(192, 0, 2, 1)}}
		b, _ := r.Pack()
		return b
	}
	spoiled := func(change func(b []byte) []byte) func([]byte) [][]byte {
		return func(q []byte) [][]byte { return [][]byte{change(good(q)), good(q)} }
	}
	for name, respond := range map[string]func([]byte) [][]byte{
		"another id before the right one": spoiled(func(b []byte) []byte { b[0] ^= 0xff; return b }),
		"another name":                    spoiled(func(b []byte) []byte { b[headerLen+1] = 'z'; return b }),
		"a question back":                 spoiled(func(b []byte) []byte { b[2] &^= 0x80; return b }),
		"cut off in the middle":           spoiled(func(b []byte) []byte { return b[:len(b)-3] }),
		"a header alone":                  spoiled(func(b []byte) []byte { return b[:headerLen] }),
		"nothing":                         spoiled(func([]byte) []byte { return nil }),
		"a name that points at itself": spoiled(func(b []byte) []byte {
			b = head(b, 1)
			at := len(b)
			return append(b, 0xc0|byte(at>>8), byte(at), 0, 1, 0, 1, 0, 0, 0, 60, 0, 4, 192, 0, 2, 66)
		}),
		"names that point at each other": spoiled(func(b []byte) []byte {
			b = head(b, 1)
			at := len(b)
			return append(b, 1, 'x', 0xc0|byte((at+4)>>8), byte(at+4), 1, 'y', 0xc0|byte(at>>8), byte(at), 0, 1, 0, 1, 0, 0, 0, 60, 0, 0)
		}),
		"more records announced than there are": spoiled(func(b []byte) []byte { binary.BigEndian.PutUint16(b[6:], 60000); return b }),
		"a foreign cookie": spoiled(func(b []byte) []byte {
			m := new(dns.Msg)
			_ = m.Unpack(b)
			m.SetEdns0(1232, false)
			m.IsEdns0().Option = []dns.EDNS0{&dns.EDNS0_COOKIE{Code: dns.EDNS0COOKIE, Cookie: strings.Repeat("ab", 16)}}
			m.Answer[0].(*dns.A).A = net.IPv4(192, 0, 2, 66)
			b, _ = m.Pack()
			return b
		}),
	} {
		t.Run(name, func(t *testing.T) {
			at := raw(t, respond, nil)
			r, err := newClient(t).Ask(context.Background(), at, question)
			require.NoError(t, err)
			require.Len(t, r.Answer, 1)
			assert.Equal(t, "192.0.2.1", r.Answer[0].(*dns.A).A.String())
		})
	}
}

// The question is sent in letters that nobody can guess; an answer in others is not believed, but fetched over TCP.
func TestOtherLetters(t *testing.T) {
	var mu sync.Mutex
	mixed := map[string]bool{}
	at := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg).SetReply(q)
		text := "over tcp"
		if overUDP(rw) {
			mu.Lock()
			mixed[q.Question[0].Name] = true
			mu.Unlock()
			m.Question[0].Name, text = strings.ToLower(q.Question[0].Name), "made up"
		}
		m.Answer = []dns.RR{&dns.TXT{Hdr: dns.RR_Header{Name: "a.example.", Rrtype: dns.TypeTXT, Class: dns.ClassINET}, Txt: []string{text}}}
		_ = rw.WriteMsg(m)
	})
	c := newClient(t)
	for range 5 {
		r, err := c.Ask(context.Background(), at, Question{Name: "a-long-name-with-many-letters.example.", Type: dns.TypeTXT})
		require.NoError(t, err)
		assert.Equal(t, []string{"over tcp"}, r.Answer[0].(*dns.TXT).Txt)
	}
	mu.Lock()
	defer mu.Unlock()
	assert.Greater(t, len(mixed), 1)
}

// Cookies (RFC 7873): ours comes back, theirs is shown the next time; BADCOOKIE is tried once more, and then over TCP.
func TestCookies(t *testing.T) {
	cookieOf := func(m *dns.Msg) string {
		if opt := m.IsEdns0(); opt != nil {
			for _, o := range opt.Option {
				if c, ok := o.(*dns.EDNS0_COOKIE); ok {
					return c.Cookie
				}
			}
		}
		return ""
	}
	var strict atomic.Bool
	var bad, streams atomic.Int32
	theirs := hex.EncodeToString([]byte("8 octets"))
	at := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg).SetReply(q)
		if got := cookieOf(q); overUDP(rw) {
			m.SetEdns0(1232, false)
			m.IsEdns0().Option = []dns.EDNS0{&dns.EDNS0_COOKIE{Code: dns.EDNS0COOKIE, Cookie: got[:16] + theirs}}
			if strict.Load() || got[16:] != theirs {
				bad.Add(1)
				m.Rcode = dns.RcodeBadCookie
			}
		} else {
			streams.Add(1)
		}
		_ = rw.WriteMsg(m)
	})
	c := newClient(t)
	q := Question{Name: "a.example.", Type: dns.TypeA}
	for range 3 {
		r, err := c.Ask(context.Background(), at, q)
		require.NoError(t, err)
		assert.Equal(t, dns.RcodeSuccess, r.Rcode)
	}
	assert.EqualValues(t, 1, bad.Load(), "only the first question was without their cookie")
	assert.Zero(t, streams.Load())
	strict.Store(true)
	_, err := c.Ask(context.Background(), at, q)
	require.NoError(t, err)
	assert.EqualValues(t, 1, streams.Load(), "who never likes our cookie is asked over TCP")
}

// A server that drips one octet after the other, or announces much and sends little, holds nobody up.
func TestEndlessStream(t *testing.T) {
	at := raw(t, func([]byte) [][]byte { return nil }, func(conn net.Conn) {
		defer conn.Close()
		_, _ = conn.Write([]byte{0xff, 0xff})
		for range 2000 {
			if _, err := conn.Write([]byte{0}); err != nil {
				return
			}
			time.Sleep(5 * time.Millisecond)
		}
	})
	began := time.Now()
	_, err := newClient(t).AskTCP(context.Background(), at, Question{Name: "a.example.", Type: dns.TypeA})
	assert.ErrorIs(t, err, ErrNoAnswer)
	assert.Less(t, time.Since(began), 3*time.Second)
}

// One connection serves many questions at a time, answered in any order.
func TestPipelining(t *testing.T) {
	var connections atomic.Int32
	at := raw(t, func([]byte) [][]byte { return nil }, func(conn net.Conn) {
		connections.Add(1)
		var held [][]byte
		for len(held) < 8 {
			var l [2]byte
			if _, err := conn.Read(l[:]); err != nil {
				return
			}
			q := make([]byte, binary.BigEndian.Uint16(l[:]))
			if _, err := conn.Read(q); err != nil {
				return
			}
			held = append(held, q)
		}
		for i := range held { // the last one first
			b := head(held[len(held)-1-i], 0)
			_, _ = conn.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(b))), b...))
		}
	})
	c := newClient(t)
	errs := make(chan error, 8)
	for i := range 8 {
		go func() {
			r, err := c.AskTCP(context.Background(), at, Question{Name: fmt.Sprintf("n%d.example.", i), Type: dns.TypeA})
			if err == nil && r.Question[0].Name != fmt.Sprintf("n%d.example.", i) {
				err = fmt.Errorf("the answer for %s", r.Question[0].Name)
			}
			errs <- err
		}()
	}
	for range 8 {
		require.NoError(t, <-errs)
	}
	assert.EqualValues(t, 1, connections.Load())
}

// An answer from another address than was asked does not count, and is told.
func TestStrangeSource(t *testing.T) {
	other, err := net.ListenPacket("udp4", "127.0.0.2:0")
	require.NoError(t, err)
	defer other.Close()
	packet, err := net.ListenPacket("udp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer packet.Close()
	go func() {
		buf := make([]byte, 512)
		for {
			n, from, err := packet.ReadFrom(buf)
			if err != nil {
				return
			}
			_, _ = other.WriteTo(head(buf[:n], 0), from)
		}
	}()
	_, err = newClient(t).Ask(context.Background(), netip.MustParseAddrPort(packet.LocalAddr().String()), Question{Name: "a.example.", Type: dns.TypeA})
	var strange StrangeError
	require.ErrorAs(t, err, &strange)
	assert.Equal(t, other.LocalAddr().String(), strange.From.String())
}

// Servers that only half work are understood, and how they answered is told.
func TestHalfWorking(t *testing.T) {
	q := Question{Name: "a.example.", Type: dns.TypeA}
	streamOnly := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
		if !overUDP(rw) {
			_ = rw.WriteMsg(new(dns.Msg).SetReply(q))
		}
	})
	r, err := newClient(t).Ask(context.Background(), streamOnly, q)
	require.NoError(t, err)
	assert.True(t, r.NoUDP)

	dropsEDNS := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
		if q.IsEdns0() == nil && overUDP(rw) {
			_ = rw.WriteMsg(new(dns.Msg).SetReply(q))
		}
	})
	r, err = newClient(t).Ask(context.Background(), dropsEDNS, q)
	require.NoError(t, err)
	assert.True(t, r.NoEDNS)
}

// A registry that names ten thousand nameservers, each of which has to be looked up, costs a bounded number of questions, and no
// more memory than they need.
func TestTenThousandNames(t *testing.T) {
	var asked atomic.Int32
	var walked sync.Map
	steps := func(name string) *atomic.Int32 {
		n, _ := walked.LoadOrStore(name, new(atomic.Int32))
		return n.(*atomic.Int32)
	}
	at := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
		asked.Add(1)
		m := new(dns.Msg).SetReply(q)
		name := dns.CanonicalName(q.Question[0].Name)
		switch {
		case strings.HasSuffix(name, "saltmarsh-ferries.example.") && q.Question[0].Qtype == dns.TypeNS:
			for i := range 10000 {
				m.Ns = append(m.Ns, &dns.NS{Hdr: dns.RR_Header{Name: name, Rrtype: dns.TypeNS, Class: dns.ClassINET, Ttl: 60}, Ns: fmt.Sprintf("n%d.%stest.", i, strings.Repeat(fmt.Sprintf("%d.", i), 40))})
			}
			m.Compress = true
			if overUDP(rw) {
				m.Truncate(1232)
			} else {
				m.Truncate(65535)
				m.Truncated = false
			}
		case strings.HasSuffix(name, ".test."): // always one label further down, at this very server
			labels := dns.SplitDomainName(name)
			deep := min(len(labels), 1+int(steps(name).Add(1)))
			zone := dns.Fqdn(strings.Join(labels[len(labels)-deep:], "."))
			m.Ns = append(m.Ns, &dns.NS{Hdr: dns.RR_Header{Name: zone, Rrtype: dns.TypeNS, Class: dns.ClassINET, Ttl: 60}, Ns: "h." + zone})
			m.Extra = append(m.Extra, &dns.A{Hdr: dns.RR_Header{Name: "h." + zone, Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 60}, A: net.IPv4(127, 0, 0, 1)})
		default:
			m.Rcode = dns.RcodeRefused
		}
		_ = rw.WriteMsg(m)
	})
	c, err := NewClient(newClient(t).door, Options{Timeout: 300 * time.Millisecond, PerSecond: -1})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	s := &Sweeper{Client: c, Hints: Hints{{Name: dnsname.MustParse("x.test"), Address: at.String()}}, Port: at.Port(), Now: time.Now}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	got := s.Sweep(context.Background(), domain, Scope{Watched: delegation.Watched(domain, nil)})
	runtime.GC()
	runtime.ReadMemStats(&after)
	assert.LessOrEqual(t, got.Asked, maxQuestions)
	assert.LessOrEqual(t, int(asked.Load()), 2*maxQuestions, "an answer that does not fit is fetched once more")
	assert.LessOrEqual(t, len(got.NoAddress)+len(got.Servers), maxNameservers*maxAddresses)
	assert.Less(t, int64(after.HeapAlloc)-int64(before.HeapAlloc), int64(32<<20))
	t.Logf("%d questions counted, %d seen, %d names without address", got.Asked, asked.Load(), len(got.NoAddress))
}

// Polite as it is by default, nobody is asked more often than the cap says.
func TestPerSecond(t *testing.T) {
	var asked atomic.Int32
	at := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
		asked.Add(1)
		_ = rw.WriteMsg(new(dns.Msg).SetReply(q))
	})
	c, err := NewClient(newClient(t).door, Options{PerSecond: 20})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	for ctx.Err() == nil {
		_, _ = c.Ask(ctx, at, Question{Name: "a.example.", Type: dns.TypeA})
	}
	assert.LessOrEqual(t, asked.Load(), int32(45), "20 at once, and 20 in the second after")
	assert.GreaterOrEqual(t, asked.Load(), int32(30))
}

// Whatever bytes come, reading them ends and fits no question that was not asked.
func FuzzDatagram(f *testing.F) {
	var p packed
	require.NoError(f, p.pack(Question{Name: "a.example.", Type: dns.TypeA}, 7, true, []byte("12345678"), nil, true))
	f.Add(head(p.octets, 0))
	f.Add(append(head(p.octets, 1), 0xc0, 12, 0, 1, 0, 1, 0, 0, 0, 1, 0, 4, 1, 2, 3, 4))
	f.Add([]byte{0, 7, 0x84, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		fits, exactly := p.answers(b)
		if exactly && !fits {
			t.Fatal("exact, and does not fit")
		}
		if fits && len(b) > headerLen && !bytes.EqualFold(b[headerLen:headerLen+len(p.question)], p.question) {
			t.Fatal("it fits another question")
		}
		p.calm(b)
		if m, err := read(b); err == nil {
			_, _ = serverCookie(m, []byte("12345678"))
			says(m)
			lines(m.Answer)
			explained(m)
			denied(domain, Reply{Msg: m})
		}
	})
}
