package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shown is an act as the API shows it.
type shown struct {
	ID             int
	State, Message string
	Requests       []struct{ Kind, State string }
	Delegated      *struct{ Wanted []string }
}

// mover moves one domain to and fro between two providers, on a stage where the registrar takes its time.
type mover struct {
	*asker
	rng  *rand.Rand
	seed uint64
}

const moved = "tides.example"

func newMover(t *testing.T) mover {
	s := stage(t, options(t, 1, fmt.Sprintf("lease: %s\nrequest_timeout: 500ms\nchecks: {settling: 1h, settled: 1h, margin: 1s}\n", lease)))
	ctx := context.Background()
	require.NoError(t, s.Host(ctx, moved, []byte("@ 60 A 192.0.2.1\nwww 60 A 192.0.2.1\n")))
	seed := rand.Uint64()
	m := mover{signedIn(t, s), rand.New(rand.NewPCG(seed, 0)), seed}
	m.define("zones:\n  tides.example:\n    providers: [heron-main]\n    registrar: gannet-main\n    delegate_to: heron-main\n    ttl: 60\n    records: |\n      @ A 192.0.2.1\n      www A 192.0.2.1\n")
	m.synced(m.syncAt(moved, "heron-main"))
	require.NoError(t, s.Control(ctx, "/faults", map[string]any{"site": "3.1", "delay_ms": 60}))
	return m
}

// move is the body of a request to move there, or back.
func (m mover) move(back bool) map[string]any {
	m.t.Helper()
	body := map[string]any{"undo": back, "override": []string{"sides-differ"}, "reason": "a drill"}
	if !back {
		var zone struct {
			Placements []struct {
				Account     string
				Nameservers []string
			}
		}
		m.ask("GET", "/zones/"+moved, nil, &zone)
		body["nameservers"] = zone.Placements[0].Nameservers
	}
	return body
}

// journal is what the registrar was asked to change.
func (m mover) journal() (lines []string) {
	m.t.Helper()
	res, err := http.Get(m.stage.Site("control") + "/journal/gannet/" + moved)
	require.NoError(m.t, err)
	defer res.Body.Close()
	require.NoError(m.t, json.NewDecoder(res.Body).Decode(&lines))
	return lines
}

// ended waits until an act has ended.
func (m mover) ended(id int) (act shown) {
	m.t.Helper()
	require.Eventually(m.t, func() bool {
		m.ask("GET", fmt.Sprintf("/acts/%d", id), nil, &act)
		return act.State != "pending" && act.State != "running" && act.State != "retrying"
	}, 2*time.Minute, 30*time.Millisecond, "act %d", id)
	return act
}

// once holds that an act was done, and that the registrar was asked for each of its changes once.
func (m mover) once(id int, before []string) {
	m.t.Helper()
	act := m.ended(id)
	require.Equal(m.t, "done", act.State, "seed %d: %s", m.seed, act.Message)
	asked := m.journal()[len(before):]
	require.Len(m.t, asked, 2, "seed %d: saved and made active, each once: %v", m.seed, asked)
	assert.True(m.t, strings.HasPrefix(asked[0], "save ") && strings.HasPrefix(asked[1], "activate "), "%v", asked)
	for _, n := range act.Delegated.Wanted {
		assert.Contains(m.t, asked[1], n)
	}
	for _, kind := range []string{"nameservers-saved", "nameservers-activated"} {
		done := 0
		for _, r := range act.Requests {
			if r.Kind == kind && r.State == "done" {
				done++
			}
		}
		assert.Equal(m.t, 1, done, "seed %d: %s is on record once: %+v", m.seed, kind, act.Requests)
	}
	var book struct {
		Items []struct{ Action, Detail string }
	}
	m.ask("GET", "/logbook?limit=100&subject="+moved+".", nil, &book)
	lines := 0
	for _, e := range book.Items {
		if strings.HasPrefix(e.Action, "nameservers-") && strings.HasPrefix(e.Detail, fmt.Sprintf("act %d,", id)) && strings.Contains(e.Detail, ": done") {
			lines++
		}
	}
	assert.Equal(m.t, 2, lines, "seed %d: the logbook has a line for each", m.seed)
}

// The service is killed at random moments of delegations to and fro: each change at the registrar is made once, and is on record.
func TestKillInsideADelegation(t *testing.T) {
	t.Parallel()
	hits := 4
	if soak() {
		hits = 60
	}
	m := newMover(t)
	db := database(t, m.stage)
	hit, inRequest, misses := 0, 0, 0
	for round := 0; hit < hits; round++ {
		require.Less(t, round, 8*hits, "hardly any kill hits an act")
		before := m.journal()
		var act shown
		m.ask("POST", "/domains/"+moved+"/delegations", m.move(round%2 == 1), &act)
		time.Sleep(time.Duration(m.rng.IntN(400)) * time.Millisecond)
		m.stage.KillService()
		var holder string
		var open int
		require.NoError(t, db.QueryRow("SELECT holder FROM jobs WHERE kind = 'act' AND subject = ?", act.ID).Scan(&holder))
		require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM acts WHERE parent_id = ? AND state = 'sent'", act.ID).Scan(&open))
		if holder != "" {
			hit++
			inRequest += open
		} else {
			misses++
		}
		require.NoError(t, m.stage.StartService(context.Background()))
		m.once(act.ID, before)
	}
	t.Logf("%d kills hit a delegation at work, %d of them with a request on its way; %d hit nothing (seed %d)", hit, inRequest, misses, m.seed)
}

// The service is killed while zones are made, and while they are removed: there is one zone of the name, or none.
func TestKillInsideMakingAndRemoving(t *testing.T) {
	t.Parallel()
	hits := 4
	if soak() {
		hits = 60
	}
	m := newMover(t)
	p := targetAt(t, m.stage, "curlew")
	require.NoError(t, m.stage.Control(context.Background(), "/faults", map[string]any{"site": p.site, "delay_ms": 60}))
	db := database(t, m.stage)
	zones := func() (n int) {
		page, err := p.driver.Zones(context.Background(), "")
		require.NoError(t, err)
		for _, z := range page.Zones {
			if z.Ref.Name == killZone {
				n++
			}
		}
		return n
	}
	hit, inRequest, misses := 0, 0, 0
	kill := func(kind string, id int, column string) {
		time.Sleep(time.Duration(m.rng.IntN(450)) * time.Millisecond)
		m.stage.KillService()
		var holder string
		var open int
		require.NoError(t, db.QueryRow("SELECT holder FROM jobs WHERE kind = ? AND subject = ?", kind, id).Scan(&holder))
		require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM acts WHERE "+column+" = ? AND state = 'sent'", id).Scan(&open))
		if holder != "" {
			hit++
			inRequest += open
		} else {
			misses++
		}
		require.NoError(t, m.stage.StartService(context.Background()))
	}
	for round := 0; hit < hits; round++ {
		require.Less(t, round, 8*hits, "hardly any kill hits an act")
		m.define("zones:\n  tides.example:\n    providers: [heron-main, curlew-ops]\n    registrar: gannet-main\n    ttl: 60\n    records: |\n      @ A 192.0.2.1\n      www A 192.0.2.1\n")
		id := m.syncAt(moved, "curlew-ops")
		kill("sync", id, "sync_id")
		m.synced(id)
		require.Equal(t, 1, zones(), "seed %d, round %d", m.seed, round)
		var act shown
		m.ask("POST", "/zones/"+moved+"/retirements", map[string]any{"account": "curlew-ops"}, &act)
		kill("act", act.ID, "parent_id")
		require.Equal(t, "done", m.ended(act.ID).State)
		require.Zero(t, zones(), "seed %d, round %d", m.seed, round)
	}
	t.Logf("%d kills hit the making or removing of a zone at work, %d of them with a request on its way; %d hit nothing (seed %d)", hit, inRequest, misses, m.seed)
}

// Clients break their connections at random moments: what they asked for is done wholly, or was never asked for.
func TestCutClients(t *testing.T) {
	t.Parallel()
	cuts := 6
	if soak() {
		cuts = 50
	}
	m := newMover(t)
	cut := func(path string, body any) {
		text, err := json.Marshal(body)
		require.NoError(t, err)
		ctx, cancel := context.WithTimeout(context.Background(), time.Duration(m.rng.IntN(12000))*time.Microsecond)
		defer cancel()
		req, err := http.NewRequestWithContext(ctx, "POST", m.stage.Address()+"/api/v1"+path, bytes.NewReader(text))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+m.token)
		if res, err := http.DefaultClient.Do(req); err == nil {
			res.Body.Close()
		}
	}
	newest := func() int {
		var list struct{ Items []shown }
		m.ask("GET", "/acts?limit=1", nil, &list)
		if len(list.Items) == 0 {
			return 0
		}
		return list.Items[0].ID
	}
	taken := 0
	for range cuts {
		before, last := m.journal(), newest()
		cut("/domains/"+moved+"/delegations", m.move(taken%2 == 1))
		time.Sleep(20 * time.Millisecond) // what was received is being stored
		if id := newest(); id != last {
			act := m.ended(id)
			require.Equal(t, "done", act.State, "seed %d: %s", m.seed, act.Message)
			asked := m.journal()[len(before):]
			require.True(t, len(asked) == 2 || len(asked) == 0 && len(act.Requests) == 0, "seed %d: wholly, or it was so already: %v", m.seed, asked)
			taken++
		} else {
			require.Equal(t, before, m.journal(), "seed %d: never asked for", m.seed)
		}
		cut("/zones/"+moved+"/syncs", map[string]any{"account": "heron-main"})
		time.Sleep(20 * time.Millisecond)
		var syncs struct{ Items []syncState }
		m.ask("GET", "/zones/"+moved+"/syncs", nil, &syncs)
		m.synced(syncs.Items[0].ID)
	}
	for range max(cuts/3, 2) {
		m.define("zones:\n  tides.example:\n    providers: [heron-main, curlew-ops]\n    registrar: gannet-main\n    ttl: 60\n    records: |\n      @ A 192.0.2.1\n      www A 192.0.2.1\n")
		m.synced(m.syncAt(moved, "curlew-ops"))
		last := newest()
		cut("/zones/"+moved+"/retirements", map[string]any{"account": "curlew-ops"})
		time.Sleep(20 * time.Millisecond)
		if id := newest(); id != last {
			require.Equal(t, "done", m.ended(id).State)
			taken++
		}
	}
	t.Logf("%d of the requests whose connection broke had been received (seed %d)", taken, m.seed)
}
