package service_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/service"
	"beacon/service/check"
	"beacon/wire"
)

// A brief look at all domains tells how each stands; who stands otherwise than at the last one is checked at once, and a look that
// failed concludes nothing.
func TestBriefChecks(t *testing.T) {
	t.Parallel()
	h := newHouseWith(t, func(s *service.Settings) {
		s.Checks = check.CheckSettings{Settling: 1000 * time.Hour, Settled: 1000 * time.Hour}
	})
	const moorings = 12
	text := "zones:\n"
	for i := range moorings {
		text += fmt.Sprintf("  mooring-%d.example:\n    providers: [plover-old]\n    records: |\n      @ A 192.0.2.1\n", i)
		if i != 0 {
			require.NoError(t, h.world.Register(fmt.Sprintf("mooring-%d.example", i), []string{"reed-11.plover.test", "reed-14.plover.test"}, 0))
		}
	}
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "test.beacon.yaml", Text: text}}})
	require.NoError(t, err)
	checkedAt := func(i int) time.Time {
		d, err := h.Overview.Domain(ctx, access.Service, dnsname.MustParse(fmt.Sprintf("mooring-%d.example", i)))
		require.NoError(t, err)
		if d.CheckedAt == nil {
			return time.Time{}
		}
		return *d.CheckedAt
	}
	require.Eventually(t, func() bool {
		for i := range moorings {
			if checkedAt(i).IsZero() {
				return false
			}
		}
		return true
	}, 2*time.Minute, 50*time.Millisecond, "the first checks")
	briefCheck := func() (g wire.BriefChecks) {
		g, err := h.Checks.StartBriefChecks(ctx, access.Service)
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			g, err = h.Checks.BriefChecksSince(ctx, access.Service, g.Since)
			require.NoError(t, err)
			return g.Ended != nil
		}, 2*time.Minute, 20*time.Millisecond)
		return g
	}
	g := briefCheck()
	assert.Equal(t, moorings, g.Domains)
	assert.Equal(t, moorings, g.Looked)
	assert.Equal(t, 1, g.Verdicts[delegation.Undelegated], "%v", g)
	require.NotEmpty(t, g.Items)
	assert.Equal(t, "not-registered", g.Items[0].Gravest)
	before := make([]time.Time, moorings)
	for i := range moorings {
		before[i] = checkedAt(i)
	}

	h.fault(`{"site":"1.1","silent":true}`)
	h.fault(`{"site":"1.2","silent":true}`)
	g = briefCheck()
	assert.Equal(t, moorings, g.Verdicts[delegation.Unknown], "%v", g)
	h.fault(`{"site":"1.1"}`)
	h.fault(`{"site":"1.2"}`)

	require.NoError(t, h.world.Register("mooring-3.example", []string{"quay-11.heron.test", "quay-13.heron.test"}, 0))
	briefCheck()
	require.Eventually(t, func() bool { return checkedAt(3).After(before[3]) }, 2*time.Minute, 50*time.Millisecond, "who changed is checked")
	time.Sleep(500 * time.Millisecond)
	for i := range moorings {
		if i != 3 {
			assert.Equal(t, before[i], checkedAt(i), "mooring-%d did not change", i)
		}
	}
}

// Who asks for a brief look while one goes on gets one of his own, whole; who waits for the other is served by it as well.
func TestBriefChecksAskedForTwice(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	text := "zones:\n"
	for i := range 8 {
		text += fmt.Sprintf("  mooring-%d.example:\n    providers: [plover-old]\n    records: |\n      @ A 192.0.2.1\n", i)
	}
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "test.beacon.yaml", Text: text}}})
	require.NoError(t, err)
	first, err := h.Checks.StartBriefChecks(ctx, access.Service)
	require.NoError(t, err)
	second, err := h.Checks.StartBriefChecks(ctx, access.Service)
	require.NoError(t, err)
	assert.True(t, second.Since.After(first.Since))
	for _, since := range []time.Time{second.Since, first.Since} {
		var g wire.BriefChecks
		require.Eventually(t, func() bool {
			g, err = h.Checks.BriefChecksSince(ctx, access.Service, since)
			require.NoError(t, err)
			return g.Ended != nil
		}, 2*time.Minute, 20*time.Millisecond)
		assert.Equal(t, 8, g.Looked)
		assert.Equal(t, 8, g.Verdicts[delegation.Undelegated], "%v", g)
		assert.Len(t, g.Items, 8)
	}
	_, err = h.Checks.BriefChecksSince(ctx, access.Service, time.Now().Add(time.Hour))
	assert.ErrorContains(t, err, "no brief look at all domains was begun")
}
