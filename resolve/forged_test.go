package resolve

import (
	"context"
	"encoding/hex"
	"fmt"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/reach"
)

// Questions come from many ports, which change: a host that saw some of them cannot predict the next.
func TestSourcePortsChange(t *testing.T) {
	var mu sync.Mutex
	var ports []int
	at := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
		if addr, ok := rw.RemoteAddr().(*net.UDPAddr); ok {
			mu.Lock()
			ports = append(ports, addr.Port)
			mu.Unlock()
		}
		_ = rw.WriteMsg(new(dns.Msg).SetReply(q))
	})
	c, err := NewClient(reach.Loopback(), Options{PerSecond: -1})
	require.NoError(t, err)
	defer c.Close()
	const asked = 16000
	var group sync.WaitGroup
	for i := range 40 {
		group.Go(func() {
			for j := range asked / 40 {
				_, err := c.Ask(context.Background(), at, Question{Name: fmt.Sprintf("n%d-%d.pier.test.", i, j), Type: dns.TypeA})
				assert.NoError(t, err)
			}
		})
	}
	group.Wait()
	mu.Lock()
	defer mu.Unlock()
	count := map[int]int{}
	for _, p := range ports {
		count[p]++
	}
	assert.Greater(t, len(count), asked/portUses*3/4, "different ports")
	for p, n := range count {
		// The last batch of a port may hold what all forty ask, and the system may hand out a port again.
		assert.Less(t, n, 3*portUses, "port %d", p)
	}
	first := map[int]bool{}
	for _, p := range ports[:len(ports)/4] {
		first[p] = true
	}
	again := 0
	for _, p := range ports[3*len(ports)/4:] {
		if first[p] {
			again++
		}
	}
	assert.Less(t, again, len(ports)/4/2, "ports that were seen early are used late")
	assert.Eventually(t, func() bool { return c.four.retired() == 0 }, 2*time.Minute, 20*time.Millisecond, "old sockets are closed")
}

// cookied answers with a server's cookie as RFC 7873 has it, or, once bare says so, without.
func cookied(m *dns.Msg, q *dns.Msg) {
	opt := q.IsEdns0()
	if opt == nil {
		return
	}
	m.SetEdns0(1232, false)
	for _, o := range opt.Option {
		if c, ok := o.(*dns.EDNS0_COOKIE); ok {
			m.IsEdns0().Option = append(m.IsEdns0().Option, &dns.EDNS0_COOKIE{Code: dns.EDNS0COOKIE, Cookie: c.Cookie[:16] + hex.EncodeToString([]byte("12345678"))})
		}
	}
}

// A server that is known to have cookies is believed over UDP only with one; without it is asked over TCP. One that has given them up for good is asked
// over UDP again after a while.
func TestKnownCookiesAreInsistedOn(t *testing.T) {
	var mu sync.Mutex
	bare, streams := false, 0
	at := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
		mu.Lock()
		defer mu.Unlock()
		m := new(dns.Msg).SetReply(q)
		answer := "192.0.2.1"
		switch {
		case !overUDP(rw):
			streams++
		case bare:
			answer = "203.0.113.66" // made up by somebody else
		default:
			cookied(m, q)
		}
		m.Answer = append(m.Answer, line("%s 60 A %s", q.Question[0].Name, answer))
		_ = rw.WriteMsg(m)
	})
	c := newClient(t)
	ask := func(name string) string {
		r, err := c.Ask(context.Background(), at, Question{Name: name, Type: dns.TypeA})
		require.NoError(t, err)
		return r.Answer[0].(*dns.A).A.String()
	}
	assert.Equal(t, "192.0.2.1", ask("a.pier.test."))
	mu.Lock()
	assert.Zero(t, streams)
	bare = true
	mu.Unlock()
	assert.Equal(t, "192.0.2.1", ask("b.pier.test."), "the answer without a cookie is not believed")
	mu.Lock()
	assert.Equal(t, 1, streams)
	mu.Unlock()
	for i := range missingCookies - 1 {
		assert.Equal(t, "192.0.2.1", ask(fmt.Sprintf("c%d.pier.test.", i)))
	}
	assert.Equal(t, "203.0.113.66", ask("d.pier.test."), "it has none any more")
}

// An error without the question, for which an attacker needs to guess the id only, says nothing of the zone: it is asked over TCP, then without EDNS.
func TestErrorsWithoutAQuestion(t *testing.T) {
	q := Question{Name: "a.example.", Type: dns.TypeTXT}
	bare := func(octets []byte) [][]byte {
		return [][]byte{{octets[0], octets[1], 0x80, dns.RcodeFormatError, 0, 0, 0, 0, 0, 0, 0, 0}}
	}
	forged := raw(t, bare, func(conn net.Conn) {
		defer conn.Close()
		for c := (&dns.Conn{Conn: conn}); ; {
			q, err := c.ReadMsg()
			if err != nil {
				return
			}
			m := new(dns.Msg).SetReply(q)
			m.Answer = append(m.Answer, line("a.example. 60 TXT real"))
			_ = c.WriteMsg(m)
		}
	})
	r, err := newClient(t).Ask(context.Background(), forged, q)
	require.NoError(t, err)
	require.Len(t, r.Answer, 1)
	assert.Equal(t, OverTCP, r.Over)
	assert.False(t, r.NoEDNS)

	old := raw(t, func(octets []byte) [][]byte { // from before EDNS, and without TCP
		m := new(dns.Msg)
		if m.Unpack(octets) != nil || m.IsEdns0() != nil {
			return bare(octets)
		}
		reply := new(dns.Msg).SetReply(m)
		reply.Answer = append(reply.Answer, line("a.example. 60 TXT old"))
		text, _ := reply.Pack()
		return [][]byte{text}
	}, nil)
	r, err = newClient(t).Ask(context.Background(), old, q)
	require.NoError(t, err)
	require.Len(t, r.Answer, 1)
	assert.True(t, r.NoEDNS)

	nothing := raw(t, bare, nil)
	r, err = newClient(t).Ask(context.Background(), nothing, q)
	assert.Error(t, err, "that says nothing: %v", r.Msg)
}

// What has to be sure is asked over TCP only, whatever datagrams say.
func TestSurely(t *testing.T) {
	at := serve(t, func(rw dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg).SetReply(q)
		answer := "192.0.2.1"
		if overUDP(rw) {
			answer = "203.0.113.66"
		}
		m.Answer = append(m.Answer, line("%s 60 A %s", q.Question[0].Name, answer))
		_ = rw.WriteMsg(m)
	})
	r, err := newClient(t).Ask(Surely(context.Background()), at, Question{Name: "a.example.", Type: dns.TypeA})
	require.NoError(t, err)
	assert.Equal(t, "192.0.2.1", r.Answer[0].(*dns.A).A.String())
	assert.False(t, r.NoUDP, "nothing was learned of the server")
}
