package visit

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/arrival"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/record"
	"beacon/reach"
)

var (
	site = dnsname.MustParse("pier.test")
	addr = netip.MustParseAddr("192.0.2.41")
)

func portOf(t *testing.T, address string) netip.AddrPort {
	t.Helper()
	return netip.MustParseAddrPort(strings.TrimPrefix(strings.TrimPrefix(address, "https://"), "http://"))
}

// speaks returns the address of a listener that does something with each connection.
func speaks(t *testing.T, do func(net.Conn)) netip.AddrPort {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() { defer c.Close(); do(c) }()
		}
	}()
	return portOf(t, l.Addr().String())
}

func closedPort(t *testing.T) netip.AddrPort {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := portOf(t, l.Addr().String())
	l.Close()
	return at
}

// visitTo asks one address over http and https, each standing elsewhere on loopback.
func visitTo(plain, secure netip.AddrPort, trusted *x509.CertPool) (http, https arrival.Contact) {
	v := Visitor{Door: reach.Loopback(), Trusted: trusted, Now: time.Now, Patience: 500 * time.Millisecond, Detours: []Detour{{addr, plain, secure}}}
	list := v.Visit(context.Background(), []Target{{site, []netip.Addr{addr}}})
	return list[0], list[1]
}

func TestVisit(t *testing.T) {
	var asked []string
	var mu sync.Mutex
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		asked = append(asked, r.Host+r.URL.Path)
		mu.Unlock()
		if r.TLS == nil {
			http.Redirect(w, r, "https://"+r.Host+"#top", http.StatusMovedPermanently)
		}
	})
	plain, secure := httptest.NewServer(handler), httptest.NewTLSServer(handler)
	defer plain.Close()
	defer secure.Close()
	pool := x509.NewCertPool()
	pool.AddCert(secure.Certificate())
	a, b := visitTo(portOf(t, plain.URL), portOf(t, secure.URL), pool)
	assert.Equal(t, 301, a.Status)
	assert.Equal(t, "https://pier.test/", a.Leads)
	assert.Equal(t, 200, b.Status, "%v", b)
	assert.ElementsMatch(t, []string{"pier.test/", "pier.test/"}, asked, "the site is asked for by its name, and nothing is followed")
	require.NotNil(t, b.Certificate)
	assert.Empty(t, b.Certificate.Distrust)
	assert.Contains(t, b.Certificate.Names, "example.com")
	_, b = visitTo(portOf(t, plain.URL), portOf(t, secure.URL), x509.NewCertPool())
	assert.Contains(t, b.Certificate.Distrust, "unknown authority", "what is not trusted is read all the same")
	assert.Equal(t, 200, b.Status)
}

// Every way in which nothing comes of a contact is told from the others, and ends in time.
// A secure connection that comes about just when the time is over changes nothing about what was told.
func TestHandshakeAtTheLastMoment(t *testing.T) {
	server := httptest.NewTLSServer(http.NotFoundHandler())
	defer server.Close()
	var group sync.WaitGroup
	for i := range 16 {
		slow := speaks(t, func(c net.Conn) {
			time.Sleep(time.Duration(440+8*i) * time.Millisecond)
			_ = tls.Server(c, &tls.Config{Certificates: server.TLS.Certificates}).Handshake()
			time.Sleep(time.Second)
		})
		plain := closedPort(t)
		group.Go(func() {
			_, https := visitTo(plain, slow, nil)
			assert.NotEmpty(t, https.Failure)
			before := https.Certificate
			time.Sleep(300 * time.Millisecond)
			assert.Equal(t, before, https.Certificate)
		})
	}
	group.Wait()
}

func TestFailures(t *testing.T) {
	mute := speaks(t, func(c net.Conn) { time.Sleep(5 * time.Second) })
	babble := speaks(t, func(c net.Conn) {
		_, _ = c.Read(make([]byte, 1000))
		_, _ = c.Write([]byte("220 mail here\r\n"))
		time.Sleep(time.Second)
	})
	endless := speaks(t, func(c net.Conn) {
		_, _ = c.Write([]byte("HTTP/1.1 200 OK\r\n"))
		for {
			if _, err := c.Write([]byte("X-More: " + strings.Repeat("x", 1000) + "\r\n")); err != nil {
				return
			}
		}
	})
	hangsUp := speaks(t, func(net.Conn) {})
	for _, c := range []struct {
		name          string
		plain, secure netip.AddrPort
		http, https   arrival.Failure
	}{
		{"closed", closedPort(t), closedPort(t), arrival.Closed, arrival.Closed},
		{"silent", mute, mute, arrival.Mute, arrival.Mute},
		{"not a web server", babble, babble, arrival.NoHTTP, arrival.NoTLS},
		{"headers without end", endless, endless, arrival.NoHTTP, arrival.NoTLS},
		{"hangs up", hangsUp, hangsUp, arrival.NoHTTP, arrival.NoTLS},
		{"out of reach", netip.MustParseAddrPort("192.0.2.1:80"), netip.MustParseAddrPort("192.0.2.1:443"), arrival.Barred, arrival.Barred},
	} {
		t.Run(c.name, func(t *testing.T) {
			began := time.Now()
			a, b := visitTo(c.plain, c.secure, nil)
			assert.Equal(t, c.http, a.Failure, a.Problem)
			assert.Equal(t, c.https, b.Failure, b.Problem)
			assert.NotEmpty(t, a.Problem)
			assert.Less(t, time.Since(began), 4*time.Second)
		})
	}
}

type beyond map[string]evidence.Beyond

func (b beyond) Beyond(_ context.Context, name dnsname.Name) evidence.Beyond {
	found := b[name.String()]
	found.Name = name
	return found
}

// A site that is an alias into another zone is looked at where that leads; of many addresses only so many are asked.
func TestLookFollowsAliases(t *testing.T) {
	host := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) }))
	defer host.Close()
	at := portOf(t, host.URL)
	server := evidence.Server{Name: dnsname.MustParse("ns1.nic.test"), Address: "127.0.0.1:53"}
	sweep := evidence.Sweep{Domain: site, Parents: []evidence.ParentAnswer{{NS: []dnsname.Name{server.Name}}},
		Servers: []evidence.ServerAnswer{{Server: server, Answer: evidence.Positive, Sets: []evidence.Observed{
			{Key: record.Key{Name: site, Type: record.A}, Answer: evidence.Positive, Data: []record.Data{"host.harbour.test."}},
			{Key: record.Key{Name: site, Type: record.AAAA}, Answer: evidence.NoData}}}}}
	v := Visitor{Door: reach.Loopback(), Now: time.Now, Detours: []Detour{{addr, at, at}}}
	var many []netip.Addr
	for a := addr; len(many) < 40; a = a.Next() {
		many = append(many, a)
	}
	v.Look(context.Background(), beyond{"host.harbour.test.": {Addresses: many}}, &sweep, []dnsname.Name{site}, nil)
	assert.Len(t, sweep.Contacts, 16, "eight addresses, http and https")
	assert.Equal(t, 204, sweep.Contacts[0].Status)
	assert.Equal(t, arrival.Barred, sweep.Contacts[2].Failure)
	assert.Equal(t, []dnsname.Name{site}, sweep.Sites)

	broken := evidence.Sweep{Failure: "no network"}
	v.Look(context.Background(), beyond{}, &broken, []dnsname.Name{site}, nil)
	assert.Empty(t, broken.Contacts, "where the sweep failed, nothing is looked at")
}
