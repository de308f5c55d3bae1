package e2e

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/demo"
	"beacon/service"
)

const (
	killZone = "tides.example"
	lease    = 2 * time.Second
)

// heronSet is a record set as Heron's interface gives it.
type heronSet struct {
	Label, Kind string
	TTL         int
	Values      []string
}

// fromHeron asks Heron itself, past the service.
func fromHeron(t *testing.T, s *demo.Stage, method, path, body string, out any) {
	t.Helper()
	req, err := http.NewRequest(method, s.Site("heron")+path, strings.NewReader(body))
	require.NoError(t, err)
	req.Header.Set("Heron-Key", "heron-practice-key")
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.Less(t, res.StatusCode, 300, string(text))
	if out != nil {
		require.NoError(t, json.Unmarshal(text, out))
	}
}

// zoneID gives the id of the zone at Heron; there must be exactly one of its name.
func zoneID(t *testing.T, s *demo.Stage) string {
	t.Helper()
	var page struct{ Zones []struct{ ID, Domain string } }
	fromHeron(t, s, "GET", "/v1/zones", "", &page)
	var ids []string
	for _, z := range page.Zones {
		if z.Domain == killZone {
			ids = append(ids, z.ID)
		}
	}
	require.Len(t, ids, 1)
	return ids[0]
}

func liveSets(t *testing.T, s *demo.Stage) map[string]string {
	t.Helper()
	sets := map[string]string{}
	for cursor := ""; ; {
		var page struct {
			Sets []heronSet
			Next string `json:"next_cursor"`
		}
		fromHeron(t, s, "GET", "/v1/zones/"+zoneID(t, s)+"/sets?cursor="+cursor, "", &page)
		for _, set := range page.Sets {
			key := set.Label + " " + set.Kind
			require.NotContains(t, sets, key, "a set that is there twice")
			sets[key] = strings.Join(set.Values, ",")
		}
		if cursor = page.Next; cursor == "" {
			return sets
		}
	}
}

func journal(t *testing.T, s *demo.Stage) (lines []string) {
	t.Helper()
	res, err := http.Get(s.Site("control") + "/journal/heron/" + killZone)
	require.NoError(t, err)
	defer res.Body.Close()
	require.NoError(t, json.NewDecoder(res.Body).Decode(&lines))
	return lines
}

// wanted200 is a definition of two hundred sets, all of them different in each round, and what Heron must then hold.
func wanted200(round int) (definition string, sets map[string]string) {
	var b strings.Builder
	fmt.Fprintf(&b, "zones:\n  %s:\n    at: [heron-main]\n    records: |\n", killZone)
	sets = map[string]string{}
	for i := range 200 {
		address := fmt.Sprintf("198.51.%d.%d", round%100, i+1)
		fmt.Fprintf(&b, "      gauge-%03d A %s\n", i, address)
		sets[fmt.Sprintf("gauge-%03d A", i)] = address
	}
	return b.String(), sets
}

// The service is killed at random moments inside syncs of two hundred sets. However often, in the end live is what is
// wanted, no set was changed twice, there is one zone, and what somebody else put there was not touched.
func TestKillInsideASync(t *testing.T) {
	hits := 10
	if soak() {
		hits = 50
	}
	s := stage(t, options(t, 1, fmt.Sprintf("lease: %s\nrequest_timeout: 1s\n", lease)))
	a := signedIn(t, s)
	definition, _ := wanted200(0)
	a.define(definition)
	a.synced(a.sync(killZone))
	foreign := `{"put":[{"label":"by-hand","kind":"TXT","ttl":300,"values":["\"not ours\""]}],"drop":[]}`
	fromHeron(t, s, "POST", "/v1/zones/"+zoneID(t, s)+"/changes", foreign, nil)
	require.NoError(t, s.Control(context.Background(), "/faults", map[string]any{"site": "4.1", "delay_ms": 70}))

	seed := rand.Uint64()
	rng := rand.New(rand.NewPCG(seed, 0))
	db := database(t, s)
	hit, inRequest, misses := 0, 0, 0
	for round := 1; hit < hits; round++ {
		require.Less(t, round, 6*hits, "hardly any kill hits a sync")
		definition, want := wanted200(round)
		want["by-hand TXT"] = `"not ours"`
		a.define(definition)
		before := len(journal(t, s))
		id := a.sync(killZone)
		holder := ""
		for range 1 + rng.IntN(2) {
			if holder != "" { // the killed instance's lease has to run out before anybody goes on
				time.Sleep(lease)
			}
			time.Sleep(time.Duration(rng.IntN(1200)) * time.Millisecond)
			s.KillService()
			var now string
			var open int
			require.NoError(t, db.QueryRow("SELECT holder FROM jobs WHERE kind = 'sync' AND subject = ?", id).Scan(&now))
			require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM intents WHERE sync_id = ? AND state = 'sent'", id).Scan(&open))
			if now != "" && now != holder { // somebody was at work who was not before
				hit++
				inRequest += open
			} else {
				misses++
			}
			holder = now
			require.NoError(t, s.StartService(context.Background()))
		}
		done := a.synced(id)
		require.Equal(t, want, liveSets(t, s), "seed %d, round %d", seed, round)
		changes := journal(t, s)[before:]
		slices.Sort(changes)
		assert.Len(t, slices.Compact(slices.Clone(changes)), 200, "seed %d, round %d: sets that were changed", seed, round)
		assert.Len(t, changes, 200, "seed %d, round %d: a set was changed twice", seed, round)
		assert.Equal(t, 200, done.Added+done.Changed+done.Removed, "seed %d, round %d: the sync's own count", seed, round)
	}
	t.Logf("%d kills hit a sync at work, %d of them with a request on its way; %d hit nothing (seed %d)", hit, inRequest, misses, seed)
}

// database opens the service's own database.
func database(t *testing.T, s *demo.Stage) *sql.DB {
	t.Helper()
	settings, err := service.ReadSettings(filepath.Join(s.Dir, "beacon.yaml"))
	require.NoError(t, err)
	d := settings.Database
	db, err := sql.Open("mysql", fmt.Sprintf("%s:%s@unix(%s)/%s", d.User, d.Password, d.Socket, d.Database))
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return db
}
