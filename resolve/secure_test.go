package resolve

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/evidence"
	"beacon/reach"
)

// Resolvers are asked over TLS and HTTPS where the list says so; a certificate that is not trusted, or for another name, is no answer.
func TestSecuredResolvers(t *testing.T) {
	reply := func(octets []byte) []byte {
		q := new(dns.Msg)
		if q.Unpack(octets) != nil {
			return nil
		}
		m := new(dns.Msg).SetReply(q)
		m.Ns = append(m.Ns, line("%s 60 SOA quay-11.heron.test. k.heron.test. 1 7200 3600 1209600 60", domain))
		m.SetEdns0(1232, false)
		m.IsEdns0().Option = append(m.IsEdns0().Option, &dns.EDNS0_EDE{InfoCode: dns.ExtendedErrorCodeStaleAnswer, ExtraText: "kept\x1b[31m over"})
		b, _ := m.Pack()
		return b
	}
	web := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		assert.Zero(t, binary.BigEndian.Uint16(body), "caches on the way shall know the question again")
		w.Header().Set("Content-Type", "application/dns-message")
		if r.URL.Path != "/dns-query" {
			w.WriteHeader(http.StatusNotFound)
			return
		}
		_, _ = w.Write(reply(body))
	}))
	defer web.Close()
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: web.TLS.Certificates})
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				for {
					var length [2]byte
					if _, err := io.ReadFull(conn, length[:]); err != nil {
						return
					}
					q := make([]byte, binary.BigEndian.Uint16(length[:]))
					if _, err := io.ReadFull(conn, q); err != nil {
						return
					}
					b := reply(q)
					_, _ = conn.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(b))), b...))
				}
			}()
		}
	}()
	trusted := x509.NewCertPool()
	trusted.AddCert(web.Certificate())
	ask := func(o Options, r Resolver) evidence.ResolverAnswer {
		o.Timeout = 500 * time.Millisecond
		c, err := NewClient(reach.Loopback(), o)
		require.NoError(t, err)
		defer c.Close()
		w := &walk{Round: (&Sweeper{Client: c, Now: time.Now}).NewRound()}
		return *w.probe(context.Background(), r, domain).a
	}
	at := netip.MustParseAddrPort(l.Addr().String()).String()
	for _, r := range []Resolver{{Address: at, Transport: OverTLS}, {Address: web.URL + "/dns-query", Transport: OverHTTPS}} {
		got := ask(Options{Roots: trusted}, r)
		require.Empty(t, got.Problem, r.Address)
		assert.Equal(t, "quay-11.heron.test.", got.SOA.Primary.String())
		assert.Equal(t, []string{"Stale Answer (3): kept[31m over"}, got.Explained, "what a server adds cannot steer a terminal")
	}
	for _, c := range []struct {
		o    Options
		r    Resolver
		says string
	}{
		{Options{}, Resolver{Address: at, Transport: OverTLS}, "certificate"},
		{Options{Roots: trusted}, Resolver{Address: at, Transport: OverTLS, TLSName: "resolver.other"}, "certificate"},
		{Options{}, Resolver{Address: web.URL + "/dns-query", Transport: OverHTTPS}, "certificate"},
		{Options{Roots: trusted}, Resolver{Address: web.URL + "/other", Transport: OverHTTPS}, "404"},
		{Options{}, Resolver{Address: "192.0.2.53:853", Transport: OverTLS}, "may not be reached"},
		{Options{}, Resolver{Address: "https://192.0.2.53/dns-query", Transport: OverHTTPS}, "may not be reached"},
		{Options{}, Resolver{Address: at, Transport: "pigeon"}, "no transport"},
	} {
		assert.Contains(t, ask(c.o, c.r).Problem, c.says, "%+v", c.r)
	}
}
