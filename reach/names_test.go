package reach

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// specials are addresses that nobody outside reaches, of every special-purpose range, in every form.
var specials = []string{"0.0.0.0", "0.1.2.3", "10.0.0.1", "100.64.0.1", "100.127.255.254", "127.0.0.1", "127.255.0.1", "169.254.169.254", "172.16.0.1", "172.31.255.255", "192.0.0.1", "192.0.0.170",
	"192.0.2.1", "192.88.99.1", "192.168.0.1", "198.18.0.1", "198.19.255.255", "198.51.100.1", "203.0.113.1", "224.0.0.1", "239.255.255.255", "240.0.0.1", "255.255.255.255",
	"::", "::1", "::ffff:10.0.0.1", "::ffff:127.0.0.1", "::127.0.0.1", "64:ff9b::10.0.0.1", "64:ff9b::169.254.169.254", "64:ff9b:1::1", "100::1", "2001::1", "2001:2::1", "2001:db8::1", "2002:a00:1::1",
	"3fff::1", "5f00::1", "fc00::1", "fd00::1", "fe80::1", "fec0::1", "ff02::1", "4000::1"}

// names is a nameserver whose answers the tests change, and what was dialled while it serves; nothing is really dialled.
type names struct {
	mu      sync.Mutex
	answers map[string][][]string // by name: the addresses of one question after the other; the last stays
	dialled []string
}

func (n *names) answer(rw dns.ResponseWriter, q *dns.Msg) {
	n.mu.Lock()
	defer n.mu.Unlock()
	m := new(dns.Msg).SetReply(q)
	name := strings.TrimSuffix(dns.CanonicalName(q.Question[0].Name), ".")
	list := n.answers[name]
	if len(list) > 0 {
		for _, text := range list[0] {
			addr := netip.MustParseAddr(text)
			switch {
			case addr.Is4() && q.Question[0].Qtype == dns.TypeA:
				m.Answer = append(m.Answer, &dns.A{Hdr: dns.RR_Header{Name: q.Question[0].Name, Rrtype: dns.TypeA, Class: dns.ClassINET}, A: addr.AsSlice()})
			case !addr.Is4() && q.Question[0].Qtype == dns.TypeAAAA:
				m.Answer = append(m.Answer, &dns.AAAA{Hdr: dns.RR_Header{Name: q.Question[0].Name, Rrtype: dns.TypeAAAA, Class: dns.ClassINET}, AAAA: addr.AsSlice()})
			}
		}
		if q.Question[0].Qtype == dns.TypeAAAA && len(list) > 1 { // asked after A, or beside it
			n.answers[name] = list[1:]
		}
	}
	_ = rw.WriteMsg(m)
}

func newNames(t *testing.T) *names {
	t.Helper()
	n := &names{answers: map[string][][]string{}}
	packets, err := net.ListenPacket("udp4", "127.0.0.1:0")
	require.NoError(t, err)
	server := &dns.Server{PacketConn: packets, Handler: dns.HandlerFunc(n.answer)}
	go func() { _ = server.ActivateAndServe() }()
	resolver, dialer := net.DefaultResolver, dial
	net.DefaultResolver = &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "udp4", packets.LocalAddr().String())
	}}
	dial = func(_ context.Context, _, address string) (net.Conn, error) {
		n.mu.Lock()
		defer n.mu.Unlock()
		n.dialled = append(n.dialled, address)
		return nil, errors.New("nothing is dialled here")
	}
	t.Cleanup(func() {
		net.DefaultResolver, dial = resolver, dialer
		_ = packets.Close()
	})
	return n
}

// By default no address of a special range is dialled: written out, behind a name, behind a name that has others too, or behind one that changes its
// answer between one look-up and the next.
func TestSpecialAddressesAreNotDialled(t *testing.T) {
	n := newNames(t)
	door, err := New([]string{"0.0.0.0/0", "::/0"})
	require.NoError(t, err)
	const public = "192.175.48.6"
	for i, text := range specials {
		name := fmt.Sprintf("host-%d.rebind.test", i)
		n.mu.Lock()
		n.answers[name] = [][]string{{text}}
		n.answers["both-"+name] = [][]string{{public, text}}
		n.answers["changes-"+name] = [][]string{{public}, {text}}
		n.mu.Unlock()
		for _, host := range []string{text, name, "both-" + name, "changes-" + name, "changes-" + name} {
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			_, err := door.DialContext(ctx, "tcp", net.JoinHostPort(host, "80"))
			assert.Error(t, err, host)
			_, err = door.HTTPClient(5 * time.Second).Get("http://" + net.JoinHostPort(host, "80") + "/")
			assert.Error(t, err, host)
			cancel()
		}
	}
	assert.NotEmpty(t, n.dialled, "what may be reached was tried")
	for _, address := range n.dialled {
		assert.Equal(t, public+":80", address)
	}
}

// A redirect leads nowhere, to no special address and to no other.
func TestRedirectsLeadNowhere(t *testing.T) {
	var to string
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) {
		rw.Header().Set("Location", to)
		rw.WriteHeader(http.StatusFound)
	}))
	defer server.Close()
	client := Loopback().HTTPClient(time.Second)
	for _, text := range specials {
		to = "http://" + net.JoinHostPort(text, "80") + "/"
		res, err := client.Get(server.URL)
		require.NoError(t, err)
		_ = res.Body.Close()
		assert.Equal(t, http.StatusFound, res.StatusCode, "it is what came back, and was not followed")
	}
}
