package service_test

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/provider/update/nstest"
	"beacon/service/secondaries"
	"beacon/wire"
)

// A credential is not sent in plain text to another machine, unless the settings name it.
func TestPlainTextAccounts(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	account := wire.NewAccount{Name: "plain", Role: wire.RoleProvider, Kind: "heron", Address: "http://provider.test", Secret: "heron-practice-key"}
	_, err := h.Accounts.AddAccount(ctx, access.Service, account)
	assert.Contains(t, asProblem(t, err).Message, "plain_text: [provider.test]")
	h.stop()
	h.settings.PlainText = []string{"provider.test"}
	_, err = instance(t, h.settings).Accounts.AddAccount(ctx, access.Service, account)
	assert.Error(t, err)
	assert.NotContains(t, err.Error(), "plain_text", "it is tried, and there is no such host")
}

// neighbour is a machine of an inner network: whatever comes to it is counted.
type neighbour struct {
	port int
	hits atomic.Int64
}

// newNeighbour listens on loopback, over TCP and UDP.
func newNeighbour(t *testing.T) *neighbour {
	t.Helper()
	n := &neighbour{}
	var server *httptest.Server
	var packets net.PacketConn
	for range 20 { // until the port is free for both
		server = httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) { rw.WriteHeader(http.StatusTeapot) }))
		var err error
		if packets, err = net.ListenPacket("udp", server.Listener.Addr().String()); err == nil {
			break
		}
		server.Close()
	}
	require.NotNil(t, packets)
	t.Cleanup(server.Close)
	server.Config.ConnState = func(_ net.Conn, state http.ConnState) {
		if state == http.StateNew {
			n.hits.Add(1)
		}
	}
	n.port = server.Listener.Addr().(*net.TCPAddr).Port
	t.Cleanup(func() { _ = packets.Close() })
	go func() {
		b := make([]byte, 512)
		for {
			if _, _, err := packets.ReadFrom(b); err != nil {
				return
			}
			n.hits.Add(1)
		}
	}()
	return n
}

// Under the default setting, no way leads to inner addresses: not as a literal, not in another form, not by a name, for accounts, nameservers, secondaries
// and sweeps.
func TestInnerNetworksAreNotReached(t *testing.T) {
	t.Parallel()
	n := newNeighbour(t)
	h := newHouse(t)
	h.stop()
	h.settings.AllowedNetworks, h.settings.DNS.Port, h.settings.WorldClock = []string{"0.0.0.0/0", "::/0"}, uint16(n.port), ""
	s := instance(t, h.settings)
	hosts := []string{"127.0.0.1", "[::ffff:127.0.0.1]", "localhost", "[::1]", "[64:ff9b::7f00:1]"}
	for i, host := range hosts {
		for kind, scheme := range map[string]string{"heron": "http", "update": "dns", secondaries.Kind: "dns"} {
			address := fmt.Sprintf("%s://%s:%d", scheme, host, n.port)
			if kind == secondaries.Kind {
				address += "/ns1.inner.test"
			}
			_, err := s.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: fmt.Sprintf("inner-%d-%s", i, kind[:3]), Role: wire.RoleProvider, Kind: kind, Address: address, Secret: nstest.Credential})
			assert.Error(t, err, address)
			if err != nil && !strings.Contains(host, "64:") && kind != secondaries.Kind {
				assert.Contains(t, err.Error(), "allowed_networks", address)
			}
		}
	}
	began := time.Now()
	sweep, err := s.Checks.Sweep(ctx, access.Service, wire.SweepRequest{Domain: zone, Nameservers: []dnsname.Name{dnsname.MustParse("ns1.saltmarsh-ferries.example")}})
	require.NoError(t, err)
	assert.NotEmpty(t, sweep.Failure, "the roots of this world are at inner addresses, too")
	assert.Less(t, time.Since(began), 20*time.Second)
	_, err = s.Checks.Sweep(ctx, access.Service, wire.SweepRequest{Domain: zone, Watched: []record.Key{{Name: dnsname.MustParse("intranet.elsewhere.test"), Type: record.A}}})
	assert.Contains(t, asProblem(t, err).Message, "is not at or below saltmarsh-ferries.example")
	assert.Zero(t, n.hits.Load(), "connections and datagrams that arrived")
}

// A credential does not follow an address that was changed in the database: it is not sent there, and the account says why.
func TestChangedAddressGetsNoCredential(t *testing.T) {
	t.Parallel()
	n := newNeighbour(t)
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	_, err := database(t, h.settings.Database).Exec("UPDATE accounts SET address = ? WHERE name = 'heron-main'", fmt.Sprintf("http://127.0.0.1:%d", n.port))
	require.NoError(t, err)
	_, err = h.Syncs.Differences(ctx, access.Service, zone, false)
	assert.Contains(t, asProblem(t, err).Message, "was its address changed in the database")
	h.define("heron-main", "@ A 192.0.2.2")
	done := h.sync(wire.SyncRequest{})
	assert.NotEqual(t, wire.SyncDone, done.State)
	again := instance(t, h.settings)
	_, err = again.Syncs.Differences(ctx, access.Service, zone, false)
	assert.Error(t, err, "nor is it sealed again for the new address at a start")
	assert.Zero(t, n.hits.Load())
}
