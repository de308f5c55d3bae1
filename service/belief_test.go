package service_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/service"
	"beacon/wire"
)

// piers are records of a zone that is longer than a first page.
func piers(n int) string {
	text := "@ 300 A 192.0.2.1"
	for i := range n {
		text += fmt.Sprintf("\npier%02d 300 A 192.0.2.%d", i, 10+i)
	}
	return text
}

// lies has reads of records at a site answered falsely.
func (h house) lies(site, kinds string, chance float64) {
	h.fault(fmt.Sprintf(`{"site":%q,"lie":%g,"lies":%q,"stale_ms":60000}`, site, chance, kinds))
}

// looks waits until a placement has been looked at n times more.
func (h house) looks(account string, n int) {
	h.t.Helper()
	var last time.Time
	for seen := -1; seen < n; {
		require.Eventually(h.t, func() bool {
			list, _, err := h.Overview.PlacementViews(ctx, access.Service, dnsname.Name{}, 200)
			require.NoError(h.t, err)
			for _, p := range list {
				if p.Account == account && p.LookedAt != nil && p.LookedAt.After(last) {
					last = *p.LookedAt
					return true
				}
			}
			return false
		}, 2*time.Minute, 20*time.Millisecond)
		seen++
	}
}

// writes counts the requests that wrote records of the zone.
func (h house) writes() (n int) {
	h.t.Helper()
	list, err := h.Overview.Syncs(ctx, access.Service, zone)
	require.NoError(h.t, err)
	for _, s := range list {
		n += s.Requests
	}
	return n
}

// What a provider answers falsely is not adopted, whatever it answers and however often.
func TestFalseReadsAreNotAdopted(t *testing.T) {
	t.Parallel()
	for _, lie := range []string{"empty", "other", "first-page", "stale"} {
		t.Run(lie, func(t *testing.T) {
			t.Parallel()
			h := driftHouse(t)
			h.define("heron-main", piers(30))
			require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
			h.define("heron-main", piers(25))
			require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Allow: []string{diff.GuardNamesStop}}).State)
			_, err := h.Zones.SetZoneSettings(ctx, access.Service, zone, wire.ZoneSettings{Drift: "adopt"}, anyState)
			require.NoError(t, err)
			before, err := h.Zones.Wanted(ctx, zone)
			require.NoError(t, err)
			h.lies("4.1", lie, 1)
			p := h.standing("heron-main", wire.Unconfirmed)
			assert.Contains(t, p.Trouble, "not confirmed")
			h.looks("heron-main", 1)
			after, err := h.Zones.Wanted(ctx, zone)
			require.NoError(t, err)
			assert.Equal(t, before.Len(), after.Len())
			assert.True(t, before.Equal(after), "desired records changed")
			h.lies("4.1", "", 0)
			h.standing("heron-main", wire.InSync)
		})
	}
}

// While a provider answers that it has nothing, a record that shall go is not taken for gone, and nothing is written over and over.
func TestAnEmptyReadIsNotBelieved(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", piers(12))
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	gone := set(t, "pier11", record.A, "192.0.2.21").Key()
	h.define("heron-main", piers(11))
	h.lies("4.1", "empty", 1)
	list, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: zone, Allow: []string{diff.GuardNamesStop}})
	require.NoError(t, err)
	time.Sleep(2 * time.Second)
	v, err := h.Overview.Sync(ctx, access.Service, list[0].ID)
	require.NoError(t, err)
	require.False(t, v.State.Ended(), "%s: %s", v.State, v.Message)
	h.lies("4.1", "", 0)
	assert.Equal(t, wire.SyncDone, h.ended(list[0].ID).State)
	assert.True(t, h.live("heron").Get(gone).IsZero(), "the record is still at the provider")
}

func TestRevertStops(t *testing.T) {
	t.Parallel()
	h := newHouseWith(t, func(s *service.Settings) { s.Drift.Every = time.Second })
	h.place("heron-main", "drift: revert", piers(12))
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	h.lies("4.1", "empty", 1)
	before := h.writes()
	h.looks("heron-main", 3)
	assert.LessOrEqual(t, h.writes()-before, 2)
}
