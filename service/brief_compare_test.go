package service_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/change"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/provider"
	"beacon/provider/update"
	"beacon/provider/update/nstest"
	"beacon/reach"
	"beacon/service"
	"beacon/wire"
)

// A sync that compares only what moved leaves nothing behind: whatever is edited here, at the nameserver by others, by hosts or in the settings, a
// whole comparison afterwards finds nothing to do.
func TestBriefComparisonsMissNothing(t *testing.T) {
	t.Parallel()
	rounds := 25
	knot := nstest.Knot(t, zone.String())
	h := newHouseWith(t, func(s *service.Settings) { s.Request = 10 * time.Second })
	_, err := h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: "knot", Role: wire.RoleProvider, Kind: "update", Secret: nstest.Credential, Address: knot.Address()})
	require.NoError(t, err)
	h.define("knot", strings.TrimSpace(gauges(30, 1)))
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Zone: zone}).State)
	outside := update.New(outcall.Client{Base: knot.Address(), Secret: nstest.Credential, Dial: reach.Loopback().DialContext})
	ref := provider.ZoneRef{ID: zone.String(), Name: zone}
	random := rand.New(rand.NewPCG(17, 8))
	key := func() record.Key {
		name, err := zone.Child(fmt.Sprintf("gauge-%06d", random.IntN(36)))
		require.NoError(t, err)
		return record.Key{Name: name, Type: []record.Type{record.A, record.TXT}[random.IntN(2)]}
	}
	data := func(k record.Key) string {
		if k.Type == record.TXT {
			return fmt.Sprintf(`"%d"`, random.IntN(100))
		}
		return fmt.Sprintf("198.51.100.%d", 1+random.IntN(200))
	}
	var token string
	var did []string
	for range rounds {
		k := key()
		what := random.IntN(8)
		did = append(did, fmt.Sprintf("%d at %s", what, k))
		request := wire.SyncRequest{Zone: zone, Revert: true}
		switch what {
		case 0, 1, 2:
			_, err := h.Apply.PutSet(ctx, access.Service, wire.SetRequest{Zone: zone, Key: k, TTL: uint32(300 + random.IntN(3)), Data: []string{data(k)}})
			require.NoError(t, err)
		case 3:
			_, err := h.Apply.PutSet(ctx, access.Service, wire.SetRequest{Zone: zone, Key: k})
			require.NoError(t, err)
		case 4, 5: // somebody else writes there
			state, err := provider.ReadAll(ctx, outside, ref, provider.State{})
			require.NoError(t, err)
			step := change.Step{Before: state.Contents.Get(k), After: record.NewSet(k.Name, k.Type, 300, record.Data(data(k)))}
			_, err = outside.Apply(ctx, ref, change.Batch{Steps: change.List{step}})
			require.NoError(t, err)
		case 6:
			if token == "" {
				token = h.newHost()
			}
			h.report(token, fmt.Sprintf("198.51.100.%d", 1+random.IntN(200)), "")
		case 7:
			if token != "" {
				require.NoError(t, h.Hosts.RemoveHost(ctx, access.Service, cam))
				token = ""
			}
		}
		require.Eventually(t, func() bool { // a sync of what was just edited may be under way
			synced, err := h.Syncs.StartSync(ctx, access.Service, request)
			if err != nil || len(synced) == 0 {
				return false
			}
			v := h.ended(synced[0].ID)
			require.NotEqual(t, wire.SyncFailed, v.State, "%s: %v", v.Message, did)
			return v.State == wire.SyncDone
		}, 2*time.Minute, 50*time.Millisecond, "%v", did)
		require.Eventually(t, func() bool {
			list, err := h.Syncs.Differences(ctx, access.Service, zone, true)
			require.NoError(t, err)
			return len(list[0].Steps) == 0
		}, 2*time.Minute, 100*time.Millisecond, "%v", did)
	}
	wanted, err := h.Zones.Wanted(ctx, zone)
	require.NoError(t, err)
	state, err := provider.ReadAll(ctx, outside, ref, provider.State{})
	require.NoError(t, err)
	for set := range wanted.Sets() {
		if set.Name != cam {
			assert.True(t, state.Contents.Get(set.Key()).SameData(set), "%s", set.Key())
		}
	}
	assert.True(t, slices.ContainsFunc(did, func(s string) bool { return s[0] == '6' }))
}
