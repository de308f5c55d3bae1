package primary

import (
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/netip"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
)

// noZones is a source that publishes nothing.
type noZones struct{}

func (noZones) Key(context.Context, dnsname.Name, string) (string, bool) { return "", false }
func (noZones) For(context.Context, dnsname.Name, string, netip.Addr) (z Zone, ok bool, err error) {
	return z, false, nil
}
func (noZones) Since(context.Context, dnsname.Name, uint32) ([]Zone, error) { return nil, nil }
func (noZones) Notified(context.Context, dnsname.Name, netip.Addr) bool     { return false }

// counter takes updates of one key, and counts them.
type counter struct{ taken atomic.Int64 }

var fuzzKey = UpdateKey{Name: "cam.pier.", Algorithm: dns.HmacSHA256, Secret: base64.StdEncoding.EncodeToString(make([]byte, 32))}

func (c *counter) UpdateKey(_ context.Context, name string) (UpdateKey, bool) {
	return fuzzKey, name == fuzzKey.Name
}

func (c *counter) Start(_ context.Context, key string, name dnsname.Name) (*dns.SOA, bool, error) {
	return StartOf(name, dnsname.Name{}, 1), key == fuzzKey.Name, nil
}

func (c *counter) Update(context.Context, string, string, *dns.Msg, netip.Addr) (int, uint32, error) {
	c.taken.Add(1)
	return dns.RcodeSuccess, 0, nil
}

// signed returns a message on the wire with a signature of the key.
func signed(t testing.TB, m *dns.Msg) []byte {
	m.SetTsig(fuzzKey.Name, fuzzKey.Algorithm, 300, time.Now().Unix())
	wire, _, err := dns.TsigGenerate(m, fuzzKey.Secret, "", false)
	require.NoError(t, err)
	return wire
}

// Whatever octets come to the port, it goes on answering, and only what is signed is taken.
func FuzzUpdatePort(f *testing.F) {
	at := fmt.Sprintf("127.%d.%d.%d:15300", 1+rand.IntN(250), rand.IntN(256), 1+rand.IntN(250)) // nobody else's, over UDP and TCP
	taken := &counter{}
	server := &Server{Source: noZones{}, Updates: taken, Log: slog.New(slog.NewTextHandler(io.Discard, nil))}
	ctx, stop := context.WithCancel(context.Background())
	started, ended := make(chan struct{}), make(chan error, 1)
	go func() { ended <- server.Serve(ctx, at, func() { close(started) }) }()
	select {
	case <-started:
	case err := <-ended:
		f.Fatal(err)
	}
	f.Cleanup(func() { stop(); <-ended })

	update := new(dns.Msg).SetUpdate("pier.example.")
	rr, err := dns.NewRR("cam.pier.example. 60 IN A 198.51.100.7")
	require.NoError(f, err)
	update.Insert([]dns.RR{rr})
	bare, err := update.Pack()
	require.NoError(f, err)
	f.Add(bare)
	f.Add(signed(f, update))
	f.Add(signed(f, new(dns.Msg).SetQuestion("pier.example.", dns.TypeSOA)))
	f.Add(signed(f, new(dns.Msg).SetAxfr("pier.example.")))
	f.Add([]byte{0, 1, 0x28, 0, 0, 1, 0, 0, 0, 0, 0, 1, 0, 0, 6, 0, 1})

	conn, err := net.Dial("udp", at)
	require.NoError(f, err)
	f.Cleanup(func() { conn.Close() })
	buf := make([]byte, 65535)
	f.Fuzz(func(t *testing.T, packet []byte) {
		if len(packet) > 4000 {
			return
		}
		before := taken.taken.Load()
		_, err := conn.Write(packet)
		require.NoError(t, err)
		sentinel := new(dns.Msg).SetQuestion("still.there.example.", dns.TypeSOA)
		wire := signed(t, sentinel)
		for again := 0; ; again++ { // the port answers the next one
			require.Less(t, again, 20, "no answer any more")
			_, err = conn.Write(wire)
			require.NoError(t, err)
			require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Second)))
			alive := false
			for !alive {
				n, err := conn.Read(buf)
				if err != nil {
					break
				}
				m := new(dns.Msg)
				alive = m.Unpack(buf[:n]) == nil && m.Id == sentinel.Id && len(m.Question) == 1 && m.Question[0].Name == sentinel.Question[0].Name
			}
			if alive {
				break
			}
		}
		m := new(dns.Msg)
		ours := m.Unpack(packet) == nil && m.IsTsig() != nil && dns.TsigVerify(append([]byte{}, packet...), fuzzKey.Secret, "", false) == nil
		if !ours && taken.taken.Load() != before {
			t.Fatalf("an update was taken that is not signed: %x", packet)
		}
	})
}
