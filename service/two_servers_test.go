package service_test

import (
	"fmt"
	"net"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/practice/practicetest"
	"beacon/provider/update/nstest"
	"beacon/service"
	"beacon/wire"
)

// Two nameservers of a zone are accounts of their own. The sync of the first does not warn that the second does not serve yet what nobody wrote to
// it; the sync of the second waits for both.
func TestTwoServersOfAZone(t *testing.T) {
	t.Parallel()
	w := practicetest.Start(t, 60)
	_, portText, err := net.SplitHostPort(w.DNSAddress("0.1"))
	require.NoError(t, err)
	port, err := strconv.Atoi(portText)
	require.NoError(t, err)
	h := newHouseIn(t, w, func(s *service.Settings, _ string) { s.Request = 20 * time.Second })
	hosts := []string{w.IP("20.1"), w.IP("20.2")}
	h.otherZone(dnsname.MustParse("moor.test"), fmt.Sprintf("ns1 A %s\nns2 A %s", hosts[0], hosts[1]))
	for i, host := range hosts {
		knot := nstest.KnotAt(t, host, port, zone.String())
		_, err := h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: fmt.Sprintf("moor-%d", i+1), Role: wire.RoleProvider, Kind: "update", Secret: nstest.Credential, Address: knot.Address()})
		require.NoError(t, err)
	}
	h.define("moor-1, moor-2", "@ A 192.0.2.1\nwww A 192.0.2.2")
	one := h.sync(wire.SyncRequest{Zone: zone, Account: "moor-1"})
	require.Equal(t, wire.SyncDone, one.State, one.Message)
	assert.Empty(t, one.Findings)
	assert.Nil(t, one.VisibleMS, "the second is not written yet")
	two := h.sync(wire.SyncRequest{Zone: zone, Account: "moor-2"})
	require.Equal(t, wire.SyncDone, two.State, two.Message)
	assert.Empty(t, two.Findings)
	assert.NotNil(t, two.VisibleMS, two.Message)
}
