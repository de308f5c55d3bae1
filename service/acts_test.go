package service_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/faulttest"
	"beacon/provider"
	"beacon/wire"
)

// registered is a domain at Plover, registered at Gannet, with its zone at Heron too.
func registered(t *testing.T, records string) house {
	t.Helper()
	h := newHouse(t)
	h.register()
	h.define("heron-main", records)
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	return h
}

// active is the list in force at the registrar.
func (h house) active() []dnsname.Name {
	h.t.Helper()
	list, err := h.Accounts.Registrations(ctx, "gannet-main")
	require.NoError(h.t, err)
	require.Len(h.t, list, 1)
	return list[0].Active
}

// A zone is not removed while a sync writes to it, and nothing is removed by a request that fails.
func TestRetireExcludesSyncs(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main, curlew-ops", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Account: "curlew-ops"}).State)
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Account: "heron-main"}).State)
	h.fault(`{"site":"6.1","delay_ms":400,"writes":true}`)
	h.define("heron-main, curlew-ops", "@ A 192.0.2.2")
	list, err := h.Syncs.StartSync(ctx, wire.SyncRequest{Zone: zone, Account: "curlew-ops"})
	require.NoError(t, err)
	faulttest.Known(t, func(t testing.TB) {
		_, err := h.Handover.Retire(ctx, wire.RetireRequest{Zone: zone, Account: "curlew-ops"})
		if err != nil {
			assert.Equal(t, 1, h.zonesNamed("curlew"), "a request that failed removed the zone: %s", err)
		}
	})
	h.fault(`{"site":"6.1"}`)
	h.ended(list[0].ID)
}

// A client that goes away does not leave a delegation half done.
func TestDelegationOutlivesItsClient(t *testing.T) {
	t.Parallel()
	h := registered(t, "@ A 192.0.2.1\nwww A 192.0.2.1")
	before := h.active()
	_, err := h.Checks.Check(ctx, zone)
	require.NoError(t, err)
	known, err := h.Overview.Domain(ctx, zone)
	require.NoError(t, err)
	h.fault(`{"site":"3.1","delay_ms":500,"writes":true}`)
	faulttest.Known(t, func(t testing.TB) {
		client, leave := context.WithCancel(ctx)
		go func() { // once it has looked, the list is on its way
			for now := known; now.CheckedAt.Equal(*known.CheckedAt); {
				now, _ = h.Overview.Domain(ctx, zone)
			}
			time.Sleep(200 * time.Millisecond)
			leave()
		}()
		_, _ = h.Handover.Delegate(client, wire.DelegateRequest{Domain: zone})
		assert.Eventually(t, func() bool { return !delegation.SameSet(h.active(), before) }, 5*time.Second, 50*time.Millisecond, "the list stays saved and not in force")
	})
}

// Records that the old nameservers have and the new ones lack are not lost without a word.
func TestDelegateComparesAllRecords(t *testing.T) {
	t.Parallel()
	h := registered(t, "@ A 192.0.2.1\nwww A 192.0.2.1")
	h.byHand("plover", set(t, "@", record.A, "192.0.2.1"), set(t, "www", record.A, "192.0.2.1"), set(t, "@", record.MX, "10 mail.saltmarsh-ferries.example."), set(t, "mail", record.A, "192.0.2.25"))
	faulttest.Known(t, func(t testing.TB) {
		_, err := h.Handover.Delegate(ctx, wire.DelegateRequest{Domain: zone, DryRun: true})
		assert.Error(t, err)
	})
}

// The set that was in force before is a way back.
func TestDelegationIsUndone(t *testing.T) {
	t.Parallel()
	h := registered(t, "@ A 192.0.2.1\nwww A 192.0.2.1")
	before := h.active()
	_, err := h.Handover.Delegate(ctx, wire.DelegateRequest{Domain: zone})
	require.NoError(t, err)
	var back []string
	for _, n := range before {
		back = append(back, n.String())
	}
	faulttest.Known(t, func(t testing.TB) {
		_, err := h.Handover.Delegate(ctx, wire.DelegateRequest{Domain: zone, Nameservers: back})
		require.NoError(t, err)
		assert.Equal(t, before, h.active())
	})
}

// A preview changes nothing of what is desired or known.
func TestDryRunsChangeNothing(t *testing.T) {
	t.Parallel()
	h := registered(t, "@ A 192.0.2.1\nwww A 192.0.2.1")
	known, err := h.Overview.Domain(ctx, zone)
	require.NoError(t, err)
	faulttest.Known(t, func(t testing.TB) {
		_, err := h.Handover.Delegate(ctx, wire.DelegateRequest{Domain: zone, Nameservers: []string{known.Wanted[0].String(), known.Wanted[1].String()}, DryRun: true})
		require.NoError(t, err)
		now, err := h.Overview.Domain(ctx, zone)
		require.NoError(t, err)
		assert.Equal(t, known.CheckedAt, now.CheckedAt, "a dry run was kept as a check")
	})
}

// A second placement changes nothing of which nameservers a domain should have.
func TestPlacementIsNotDelegation(t *testing.T) {
	t.Parallel()
	h := registered(t, "@ A 192.0.2.1\nwww A 192.0.2.1")
	known, err := h.Overview.Domain(ctx, zone)
	require.NoError(t, err)
	h.define("heron-main, curlew-ops", "@ A 192.0.2.1\nwww A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Account: "curlew-ops"}).State)
	faulttest.Known(t, func(t testing.TB) {
		now, err := h.Overview.Domain(ctx, zone)
		require.NoError(t, err)
		assert.Equal(t, known.Wanted, now.Wanted)
	})
}

// A zone at a provider that puts records of its own into new zones is in sync after one run.
func TestPrefilledZoneInOneRun(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("plover-old", "@ A 192.0.2.1\nwww CNAME @")
	shown, err := h.Syncs.Differences(ctx, zone, false)
	require.NoError(t, err)
	done := h.sync(wire.SyncRequest{Expect: shown[0].Digest})
	assert.Equal(t, wire.SyncDone, done.State, done.Message)
	requests, err := h.Syncs.Requests(ctx, done.ID)
	require.NoError(t, err)
	assert.Equal(t, "zone-made", requests[0].Kind)
}

// A preview knows a zone that is at the provider already, whoever made it.
func TestPreviewOfAZoneThatIsThere(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	_, err := h.direct("heron").Create(ctx, zone, provider.ZoneOptions{})
	require.NoError(t, err)
	h.byHand("heron", set(t, "cam", record.A, "192.0.2.9"))
	h.define("heron-main", "@ A 192.0.2.1")
	shown, err := h.Syncs.Differences(ctx, zone, false)
	require.NoError(t, err)
	assert.False(t, shown[0].NewZone)
	assert.Len(t, shown[0].Foreign, 1)
}
