package e2e

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/zonefile"
	"beacon/demo"
	"beacon/outcall"
	"beacon/profile/profiletest"
	"beacon/provider"
	"beacon/service"
)

const lease = time.Second

var killZone = dnsname.MustParse("tides.example")

// target is a provider that syncs go to while the service is killed, and a way to it past the service.
type target struct {
	kind, account, site string
	within              int // milliseconds after its start in which a sync is killed
	driver              provider.Driver
}

func targetAt(t *testing.T, s *demo.Stage, kind string) target {
	p := map[string]target{
		"heron":  {account: "heron-main", site: "4.1", within: 1200}, // ten requests of twenty sets
		"curlew": {account: "curlew-ops", site: "6.1", within: 2500}, // seventeen requests of twelve records, done later
		"plover": {account: "plover-old", site: "5.1", within: 500},  // one request of the whole zone
	}[kind]
	p.kind, p.driver = kind, profiletest.Driver(t, kind, outcall.Client{HTTP: http.DefaultClient, Base: s.Site(kind), Account: kind})
	return p
}

// zone finds the zone at the provider; there must be exactly one of its name.
func (p target) zone(t *testing.T) provider.ZoneRef {
	t.Helper()
	page, err := p.driver.Zones(context.Background(), "")
	require.NoError(t, err)
	page.Zones = slices.DeleteFunc(page.Zones, func(z provider.Zone) bool { return z.Ref.Name != killZone })
	require.Len(t, page.Zones, 1)
	return page.Zones[0].Ref
}

func (p target) live(t *testing.T) (c record.Contents, mark string) {
	t.Helper()
	state, err := provider.ReadAll(context.Background(), p.driver, p.zone(t), provider.State{})
	require.NoError(t, err)
	return state.Contents, state.Mark
}

// byHand puts a set there as somebody else would.
func (p target) byHand(t *testing.T, set record.Set) {
	t.Helper()
	caps, err := p.driver.Describe(context.Background(), p.zone(t))
	require.NoError(t, err)
	live, mark := p.live(t)
	batch := caps.Pack(change.List{{After: set}}, live)[0]
	batch.Mark = mark
	receipt, err := p.driver.Apply(context.Background(), p.zone(t), batch)
	for err == nil && !receipt.Done {
		time.Sleep(50 * time.Millisecond)
		receipt, err = p.driver.Poll(context.Background(), receipt)
	}
	require.NoError(t, err)
}

// journal is what the provider was asked to change, request by request.
func (p target) journal(t *testing.T, s *demo.Stage) (lines []string) {
	t.Helper()
	return journalOf(t, s.Site("control"), p.kind, killZone.String())
}

// journalOf is what a provider was asked to change in a zone.
func journalOf(t *testing.T, control, kind, zone string) (lines []string) {
	t.Helper()
	res, err := http.Get(control + "/journal/" + kind + "/" + zone)
	require.NoError(t, err)
	defer res.Body.Close()
	require.NoError(t, json.NewDecoder(res.Body).Decode(&lines))
	return lines
}

// wanted200 returns two hundred record sets, all of them different in each round, as a definition and as contents.
func wanted200(t *testing.T, account string, round int) (definition string, contents record.Contents) {
	t.Helper()
	var lines strings.Builder
	for i := range 200 {
		fmt.Fprintf(&lines, "      gauge-%03d A 198.51.%d.%d\n", i, round%100, i+1)
	}
	read, faults := zonefile.Read(strings.ReplaceAll(lines.String(), "      ", ""), zonefile.Options{Origin: killZone, TTL: 3600})
	require.Empty(t, faults)
	return fmt.Sprintf("zones:\n  tides.example:\n    providers: [%s]\n    records: |\n%s", account, lines.String()), read.Contents()
}

// The service is killed at random moments inside syncs of two hundred sets. However often, in the end live is what is
// wanted, no set was changed twice, there is one zone, and what somebody else put there was not touched.
func TestKillInsideASync(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		kind       string
		hits, soak int
	}{{"heron", 8, 75}, {"curlew", 6, 75}, {"plover", 8, 50}} {
		t.Run(c.kind, func(t *testing.T) {
			t.Parallel() // most of the time is waiting for leases
			hits := c.hits
			if soak() {
				hits = c.soak
			}
			s := stage(t, options(t, 1, fmt.Sprintf("lease: %s\nrequest_timeout: 500ms\n", lease)))
			killSyncs(t, s, targetAt(t, s, c.kind), hits)
		})
	}
}

func killSyncs(t *testing.T, s *demo.Stage, p target, hits int) {
	a := signedIn(t, s)
	definition, _ := wanted200(t, p.account, 0)
	a.define(definition)
	a.synced(a.syncAt("tides.example", p.account))
	name, err := killZone.Child("by-hand")
	require.NoError(t, err)
	foreign := record.NewSet(name, record.TXT, 300, `"not ours"`)
	p.byHand(t, foreign)
	require.NoError(t, s.Control(context.Background(), "/faults", map[string]any{"site": p.site, "delay_ms": 70}))

	seed := rand.Uint64()
	rng := rand.New(rand.NewPCG(seed, 0))
	db := database(t, s)
	hit, inRequest, misses := 0, 0, 0
	for round := 1; hit < hits; round++ {
		require.Less(t, round, 6*hits, "hardly any kill hits a sync")
		definition, want := wanted200(t, p.account, round)
		a.define(definition)
		before := len(p.journal(t, s))
		id := a.syncAt("tides.example", p.account)
		holder := ""
		for range 1 + rng.IntN(2) {
			if holder != "" { // the killed instance's lease has to run out before anybody goes on
				time.Sleep(lease)
			}
			time.Sleep(time.Duration(rng.IntN(p.within)) * time.Millisecond)
			s.KillService()
			var now string
			var open int
			require.NoError(t, db.QueryRow("SELECT holder FROM jobs WHERE kind = 'sync' AND subject = ?", id).Scan(&now))
			require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM acts WHERE sync_id = ? AND state = 'sent'", id).Scan(&open))
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
		live, _ := p.live(t)
		require.Equal(t, want.With(foreign).Records(), live.Records(), "seed %d, round %d", seed, round)
		changes := p.journal(t, s)[before:]
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
