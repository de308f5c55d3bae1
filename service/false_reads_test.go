package service_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/diff"
	"beacon/core/record"
	"beacon/wire"
)

// journal returns what was ever put and dropped in the zone at a provider.
func (h house) journal(kind string) (list []string) {
	h.t.Helper()
	res, err := http.Get(h.world.URL("control") + "/journal/" + kind + "/" + zone.String())
	require.NoError(h.t, err)
	defer res.Body.Close()
	require.Equal(h.t, http.StatusOK, res.StatusCode)
	require.NoError(h.t, json.NewDecoder(res.Body).Decode(&list))
	return list
}

// With one read in ten answered falsely, no desired record changes unasked, nothing foreign goes, nothing is written more than
// twice, and every sync ends done, or blocked because a read could not be confirmed.
func TestSyncsThroughARainOfFalseReads(t *testing.T) {
	t.Parallel()
	syncs := 12
	if os.Getenv("BEACON_SOAK") != "" {
		syncs = 300
	}
	for kind, at := range map[string][2]string{"heron": {"heron-main", "4.1"}, "plover": {"plover-old", "5.1"}, "curlew": {"curlew-ops", "6.1"}} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			h := driftHouse(t)
			seed := rand.Uint64()
			rng := rand.New(rand.NewPCG(seed, 0))
			define := func(lines string) {
				text := fmt.Sprintf("zones:\n  saltmarsh-ferries.example:\n    providers: [%s]\n    drift: adopt\n    records: |\n      %s\n", at[0], indented(lines))
				_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "test.beacon.yaml", Text: text}}})
				require.NoError(t, err)
			}
			desired := func() record.Contents {
				c, err := h.Zones.Wanted(ctx, zone)
				require.NoError(t, err)
				return c
			}
			lines, _ := randomZone(rng)
			define(lines)
			require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
			foreign := set(t, "by-hand", record.TXT, `"not ours"`)
			h.byHand(kind, foreign)
			adopted, blocked, most := 0, 0, 0
			for round := range syncs {
				lines, _ := randomZone(rng)
				before := len(h.journal(kind))
				h.lies(at[1], "", 0.1)
				define(lines)
				done := h.sync(wire.SyncRequest{Allow: []string{diff.GuardNamesStop}})
				for tries := 0; done.State == wire.SyncBlocked && tries < 3; tries++ {
					require.Len(t, done.Findings, 1)
					require.Equal(t, diff.GuardUnconfirmed, done.Findings[0].Code, "seed %d, round %d: %s", seed, round, done.Message)
					blocked++
					done = h.sync(wire.SyncRequest{Allow: []string{diff.GuardNamesStop}})
				}
				require.Equal(t, wire.SyncDone, done.State, "seed %d, round %d: %s %v", seed, round, done.Message, done.Findings)
				want := contentsOf(t, lines)
				require.Equal(t, want.Records(), desired().Records(), "seed %d, round %d", seed, round)
				times := map[string]int{}
				for _, change := range h.journal(kind)[before:] {
					times[change]++
					most = max(most, times[change])
				}
				h.lies(at[1], "", 0)
				require.Equal(t, want.With(foreign).Records(), h.live(kind).Records(), "seed %d, round %d: %+v\n%s", seed, round, done, strings.Join(h.journal(kind)[before:], "\n"))
				if round%4 == 3 { // somebody changes a record at the provider's own site; a look adopts it
					changed := record.NewSet(zone, record.A, 300, record.Data(fmt.Sprintf("192.0.2.%d", 200+rng.IntN(50))))
					h.byHand(kind, changed)
					h.lies(at[1], "", 0.1)
					require.Eventually(t, func() bool { return desired().Get(changed.Key()).Equal(changed) }, 2*time.Minute, 50*time.Millisecond, "seed %d, round %d", seed, round)
					require.Equal(t, want.With(changed).Records(), desired().Records(), "seed %d, round %d", seed, round)
					adopted++
				}
			}
			assert.LessOrEqual(t, most, 2, "a change was written more than twice")
			t.Logf("%d syncs, %d blocked because of a read, %d adoptions; the same change at most %d times (seed %d)", syncs, blocked, adopted, most, seed)
		})
	}
}
