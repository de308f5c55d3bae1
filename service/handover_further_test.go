package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/handover"
	"beacon/provider"
	"beacon/wire"
)

// A domain moves to another set of nameservers at the same provider account: its zone is there twice for a while, the second one as ACCOUNT/2.
func TestSecondZoneAtOneAccount(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("curlew-ops", "@ 60 A 192.0.2.1\nwww 60 A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	z, err := h.Overview.Zone(ctx, access.Service, zone)
	require.NoError(t, err)
	var hosts []string
	for _, n := range z.Placements[0].Nameservers {
		hosts = append(hosts, n.String())
	}
	require.NoError(t, h.world.Register(zone.String(), hosts, 600))

	_, err = h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "curlew-ops"})
	assert.ErrorContains(t, err, "are active already")
	assert.ErrorContains(t, err, "beacon handover begin saltmarsh-ferries.example --to curlew-ops/2")
	_, err = h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "plover-old/2"})
	assert.ErrorContains(t, err, "A zone can be at plover-old only once")
	preview, err := h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "curlew-ops/2", DryRun: true})
	require.NoError(t, err)
	assert.Equal(t, "curlew-ops/2", preview.To)

	_, err = h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "curlew-ops/2", Grace: &hour})
	require.NoError(t, err)
	v := h.moving(true, asks(handover.AskAllow, handover.DoDelegate))
	assert.Equal(t, "curlew-ops", v.From)
	for _, n := range v.New {
		assert.NotContains(t, hosts, n.String(), "a set of its own")
	}
	all := func() (n int) {
		list, err := provider.AllZones(ctx, h.direct("curlew"))
		require.NoError(t, err)
		for _, z := range list {
			if z.Ref.Name == zone {
				n++
			}
		}
		return n
	}
	assert.Equal(t, 2, all())
	assert.ErrorContains(t, h.Accounts.RemoveAccount(ctx, access.Service, wire.RoleProvider, "curlew-ops"), "is used")
	_, err = h.Accounts.RotateAccount(ctx, access.Service, "curlew-ops/2", wire.NewCredential{Role: wire.RoleProvider, Secret: "desk:curlew-practice-key"})
	assert.ErrorContains(t, err, "has the credential of curlew-ops")
	h.define("curlew-ops, curlew-ops/2", "@ 60 A 192.0.2.7\nwww 60 A 192.0.2.1") // an edit reaches both
	h.allows(handover.DoDelegate)
	h.allows(handover.DoRetire)
	h.moving(true, func(v wire.Handover) bool { return v.State == wire.HandoverDone })
	assert.Equal(t, 1, all(), "the old one is removed, and no other")
	z, err = h.Overview.Zone(ctx, access.Service, zone)
	require.NoError(t, err)
	require.Len(t, z.Placements, 1)
	assert.Equal(t, "curlew-ops/2", z.Placements[0].Account)
	assert.Equal(t, v.New, z.Placements[0].Nameservers)
	back, there, err := provider.FindZone(ctx, h.direct("curlew"), zone)
	require.NoError(t, err)
	require.True(t, there)
	assert.Equal(t, v.New, back.Nameservers)

	assert.ErrorContains(t, h.Accounts.RemoveAccount(ctx, access.Service, wire.RoleProvider, "curlew-ops"), "Remove it first: beacon provider remove curlew-ops/2")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State, "it is synced under its name afterwards")
}
