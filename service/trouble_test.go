package service_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/store"
	"beacon/wire"
)

// A provider that is not reached for a quarter of an hour, in the time of the practice world, ends no sync: each is done without
// anybody's hand when it is back.
func TestSyncsOutlastAnOutage(t *testing.T) {
	t.Parallel()
	syncs, outage := 5, 4*time.Second
	if os.Getenv("BEACON_SOAK") != "" {
		syncs, outage = 50, 15*time.Second // the world runs sixty times as fast
	}
	h := newHouse(t)
	names := make([]dnsname.Name, syncs)
	text := "zones:\n"
	for i := range names {
		names[i] = dnsname.MustParse(fmt.Sprintf("pier%02d.example", i))
		text += fmt.Sprintf("  pier%02d.example:\n    providers: [heron-main]\n    records: |\n      @ A 192.0.2.1\n", i)
		for k := range 60 { // several requests
			text += fmt.Sprintf("      h%02d A 192.0.2.%d\n", k, k)
		}
	}
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "piers.beacon.yaml", Text: text}}})
	require.NoError(t, err)
	if syncs == 5 { // they might all be done before it is away
		h.fault(`{"site":"4.1","cut_before":true,"writes":true}`)
	}
	ids := make([]uint64, syncs)
	for i, name := range names {
		list, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: name})
		require.NoError(t, err)
		ids[i] = list[0].ID
	}
	if syncs > 5 {
		time.Sleep(time.Duration(rand.IntN(300)) * time.Millisecond)
	}
	h.fault(`{"site":"4.1","cut_before":true}`)
	began := time.Now()
	waiting := map[uint64]bool{}
	require.Eventually(t, func() bool { // each try of a sync takes a moment, in which it is running
		for _, id := range ids {
			v, err := h.Overview.Sync(ctx, access.Service, id)
			require.NoError(t, err)
			if v.State == wire.SyncRetrying && !waiting[id] {
				waiting[id] = true
				require.NotNil(t, v.Retrying)
				assert.NotEmpty(t, v.Retrying.Problem)
				assert.WithinDuration(t, time.Now(), v.Retrying.Since, time.Minute)
				assert.True(t, v.Retrying.NextTry.Before(time.Now().Add(11*time.Minute)))
			}
		}
		return len(waiting) > 0 && time.Since(began) > outage/2
	}, time.Minute, 20*time.Millisecond, "syncs wait")
	retrying := len(waiting)
	time.Sleep(time.Until(began.Add(outage)))
	h.fault(`{"site":"4.1"}`)
	back := time.Now()
	for i, id := range ids {
		require.Eventually(t, func() bool {
			v, err := h.Overview.Sync(ctx, access.Service, id)
			require.NoError(t, err)
			return v.State.Ended()
		}, outage*3+30*time.Second, 50*time.Millisecond)
		v, err := h.Overview.Sync(ctx, access.Service, id)
		require.NoError(t, err)
		require.Equal(t, wire.SyncDone, v.State, "%s: %s", names[i], v.Message)
		assert.Equal(t, 61, v.Added, names[i])
	}
	t.Logf("%d syncs, %d of them waited; all done %s after the provider was back", syncs, retrying, time.Since(back).Round(time.Millisecond))
	book, err := h.Logbook.Entries(ctx, access.Service, "heron-main", false, 0, 200)
	require.NoError(t, err)
	away := map[string]int{}
	for _, e := range book {
		away[e.Action]++
	}
	assert.Equal(t, 1, away["account.away"], "one line for the outage")
	assert.Equal(t, 1, away["account.back"])
}

// A sync that waits is cancelled by a user, and the next one goes on.
func TestASyncIsCancelled(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	h.define("heron-main", "@ A 192.0.2.2")
	h.fault(`{"site":"4.1","cut_before":true}`)
	list, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: zone})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		v, err := h.Overview.Sync(ctx, access.Service, list[0].ID)
		require.NoError(t, err)
		return v.State == wire.SyncRetrying
	}, 2*time.Minute, 20*time.Millisecond)
	require.NoError(t, h.Syncs.Cancel(ctx, access.Service, list[0].ID, "the provider is away"))
	v, err := h.Overview.Sync(ctx, access.Service, list[0].ID)
	require.NoError(t, err)
	assert.Equal(t, wire.SyncCancelled, v.State)
	assert.Contains(t, v.Message, "the provider is away")
	err = h.Syncs.Cancel(ctx, access.Service, list[0].ID, "")
	assert.ErrorContains(t, err, "has ended")
	h.fault(`{"site":"4.1"}`)
	assert.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
}

// An instance that does not look for drift leaves the looks to those that do.
func TestInstanceWithoutLooksEndsNone(t *testing.T) {
	t.Parallel()
	h := driftHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	without := h.settings
	without.Drift.Every = 0
	other := instance(t, without)
	h.looks("heron-main", 2)
	var account store.Account
	require.NoError(t, other.Logbook.Tx(ctx, func(tx *store.Tx) (err error) { account, err = tx.Account(wire.RoleProvider, "heron-main"); return err }))
	assert.True(t, other.Syncs.LookSoon(ctx, zone, account))
	h.looks("heron-main", 2)
}
