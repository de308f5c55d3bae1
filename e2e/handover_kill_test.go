package e2e

import (
	"context"
	"math/rand/v2"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// handoverState is what a test reads of a handover.
type handoverState struct {
	ID                    uint64
	State, Phase, Doing   string
	Trouble               string
	Asked                 *struct{ Kind, Do, Text string }
	Steps                 []struct{ Text, Do, State string }
	Wait                  []struct{ For, Until string }
	Closed                []struct{ Code, Message string }
	Compared              struct{ Differences []any }
	Report                []struct{ Text string }
	DecidedAt, NextAt     string
	BegunAt, EndedAt, End string
}

// A signed domain moves to and fro between two providers while the service is killed at random moments in which an act, a sync or the handover itself is at work. Each
// handover comes to its end by itself, the registrar is asked for each change once, and the zone is at one provider afterwards. In the soak only: the kills at each request are
// its short form.
func TestKillInsideAHandover(t *testing.T) {
	t.Parallel()
	if !soak() {
		t.Skip("random kills take minutes")
	}
	hits, want := 100, []string{"ds", "save", "activate", "ds"}
	opt := options(t, 60, "lease: "+lease.String()+"\nrequest_timeout: 500ms\nchecks: {settling: 3m, settled: 1h, margin: 10s}\n")
	opt.Signed = true
	s := stage(t, opt)
	ctx := context.Background()
	seed := rand.Uint64()
	m := mover{signedIn(t, s), rand.New(rand.NewPCG(seed, 0)), seed}
	require.NoError(t, s.Host(ctx, moved, []byte("@ 60 A 192.0.2.1\nwww 60 A 192.0.2.1\n")))
	m.define("zones:\n  tides.example:\n    providers: [heron-main]\n    registrar: gannet-main\n    ttl: 60\n    records: |\n      @ A 192.0.2.1\n      www A 192.0.2.1\n")
	m.synced(m.syncAt(moved, "heron-main"))
	m.done("/domains/"+moved+"/delegations", m.move(false))
	for _, at := range []string{"heron", "curlew"} {
		require.NoError(t, s.Control(ctx, "/signing", map[string]any{"zone": moved + ".", "at": at}))
	}
	m.done("/domains/"+moved+"/ds-changes", map[string]any{"remove": false})
	for _, site := range []string{"3.1", "4.1", "6.1"} { // registrar and both providers take their time
		require.NoError(t, s.Control(ctx, "/faults", map[string]any{"site": site, "delay_ms": 90}))
	}
	db := database(t, s)
	atWork := func() (n int) {
		require.NoError(t, db.QueryRow(`SELECT COUNT(*) FROM jobs WHERE state = 'open' AND holder <> '' AND (kind IN ('act', 'sync')
			OR kind = 'handover' AND EXISTS (SELECT 1 FROM acts WHERE acts.state IN ('pending', 'running', 'sent')))`).Scan(&n))
		return n
	}
	hit, missed, rounds, killed := 0, 0, 0, 0
	begun := func(h handoverState) (n int) {
		for _, e := range h.Report {
			if strings.HasPrefix(e.Text, "Begun") {
				n++
			}
		}
		return n
	}
	for to := "curlew-ops"; hit < hits; rounds++ {
		before := m.journal()
		var h handoverState
		killed = 0
		m.ask("POST", "/domains/"+moved+"/handovers", map[string]any{"to": to, "sign": true, "grace": 0, "allow": []string{"remove-ds", "delegate", "add-ds", "retire"}}, &h)
		for deadline := time.Now().Add(3 * time.Minute); ; {
			m.ask("GET", "/domains/"+moved+"/handover", nil, &h)
			if h.State == "done" {
				break
			}
			require.True(t, time.Now().Before(deadline), "seed %d: %+v", seed, h)
			if n := begun(h); hit < hits && n > killed && atWork() > 0 { // once in each act
				time.Sleep(time.Duration(m.rng.IntN(200)) * time.Millisecond)
				s.KillService()
				if atWork() > 0 {
					hit, killed = hit+1, n
				} else {
					missed++
				}
				require.NoError(t, s.StartService(ctx))
				continue
			}
			if h.Doing == "" && len(h.Wait) > 0 && h.Wait[0].Until != "" {
				if status, text := m.try("POST", "/clock/steps", map[string]any{"until": h.Wait[0].Until}); status != http.StatusOK { // a machine that stalls: once more, soon
					t.Logf("%s", text)
				}
			}
			time.Sleep(time.Duration(5+m.rng.IntN(20)) * time.Millisecond)
		}
		var asked []string
		for _, line := range m.journal()[len(before):] {
			asked = append(asked, strings.Fields(line)[0])
		}
		assert.Equal(t, want, asked, "seed %d, round %d: %v", seed, rounds, m.journal()[len(before):])
		t.Logf("round %d: %d kills so far", rounds, hit)
		to = map[string]string{"curlew-ops": "heron-main", "heron-main": "curlew-ops"}[to]
	}
	t.Logf("%d kills within acts and syncs of %d handovers, %d beside them (seed %d)", hit, rounds, missed, seed)
}
