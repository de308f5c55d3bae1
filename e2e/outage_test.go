package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// behind starts an instance of the service behind a proxy to its database, in the place of the stage's own.
func behind(t *testing.T, a *asker) *dbProxy {
	t.Helper()
	s := a.stage
	s.KillService()
	socket := filepath.Join(s.Dir, "db", "socket")
	p := startProxy(t, socket, filepath.Join(s.Dir, "proxy"))
	file := filepath.Join(s.Dir, "beacon.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(text), socket)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), socket, p.path, 1)), 0o600))
	a.at = another(t, s, 9, program).address
	return p
}

// readiness asks whether the service is ready, and how long that took.
func readiness(t *testing.T, at string) (ready bool, took time.Duration, said string) {
	t.Helper()
	began := time.Now()
	client := http.Client{Timeout: 5 * time.Second}
	res, err := client.Get(at + "/readyz")
	require.NoError(t, err)
	defer res.Body.Close()
	text := make([]byte, 300)
	n, _ := res.Body.Read(text)
	if res.StatusCode != http.StatusOK {
		assert.Equal(t, http.StatusServiceUnavailable, res.StatusCode)
		assert.NotEmpty(t, res.Header.Get("Retry-After"))
	}
	return res.StatusCode == http.StatusOK, time.Since(began), string(text[:n])
}

// The database is killed, frozen, read-only, out of connections, out of disk and slow while records are changed and written: nothing that
// was acknowledged is lost, nothing ends for ever, the service says how it is, and an outage is one line.
func TestDatabaseOutages(t *testing.T) {
	t.Parallel()
	outages := []struct {
		trouble
		times int
		lasts time.Duration
	}{{killed, 1, 500 * time.Millisecond}, {frozen, 1, 2500 * time.Millisecond}, {diskFull, 1, 500 * time.Millisecond}}
	if soak() {
		outages = append(outages, outages[2], outages[2])
		outages[3].trouble, outages[4].trouble = readOnly, crowded
		outages[0].times, outages[0].lasts, outages[1].lasts = 20, 2*time.Second, 60*time.Second
		for i := range outages[2:] {
			outages[2+i].times, outages[2+i].lasts = 3, 20*time.Second
		}
	}
	s := stage(t, options(t, 1, fmt.Sprintf("lease: %s\nrequest_timeout: 500ms\ndrift: {every: 1s}\nchecks: {settling: 2s, settled: 2s, brief: 0s, margin: 1s}\n", lease)))
	a := signedIn(t, s)
	a.define("zones:\n  tides.example:\n    providers: [heron-main]\n    registrar: gannet-main\n    records: |\n      @ A 192.0.2.1\n")
	a.synced(a.syncAt("tides.example", "heron-main"))
	gauge := gauges(a, 1)[0]
	p := behind(t, a)
	target := targetAt(t, s, "heron")
	var acknowledged, tried atomic.Int64
	stop := make(chan struct{})
	var load sync.WaitGroup
	load.Go(func() {
		for n := int64(1); ; n++ {
			select {
			case <-stop:
				return
			default:
			}
			tried.Store(n)
			text := fmt.Sprintf("zones:\n  tides.example:\n    providers: [heron-main]\n    registrar: gannet-main\n    records: |\n      @ A 192.0.2.1\n      n TXT \"%d\"\n", n)
			status, answer := a.try("POST", "/definitions", map[string]any{"files": []map[string]string{{"name": "test.beacon.yaml", "text": text}}})
			if status < 300 {
				acknowledged.Store(n)
			} else {
				assert.Contains(t, []int{409, 503}, status, string(answer))
			}
			if status, answer = a.try("POST", "/zones/tides.example/syncs", map[string]any{"account": "heron-main"}); status >= 300 {
				assert.Contains(t, []int{409, 503}, status, string(answer))
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	address := func(n int64) string { return fmt.Sprintf("198.51.%d.%d", 100+n/250%50, 1+n%250) }
	var reported, sent atomic.Int64
	load.Go(func() {
		for n := int64(1); ; n++ {
			select {
			case <-stop:
				return
			default:
			}
			sent.Store(n)
			if said := gauge.reportOnce(t, a.at, address(n)); said != "" {
				assert.Contains(t, []string{"accepted", "unchanged"}, said)
				reported.Store(n)
			}
			time.Sleep(100 * time.Millisecond)
		}
	})
	total := 0
	for _, o := range outages {
		for range o.times {
			total++
			p.become(o.trouble)
			began := time.Now()
			require.Eventually(t, func() bool {
				ready, took, _ := readiness(t, a.at)
				assert.Less(t, took, 2*time.Second, "%s", o.trouble)
				return !ready
			}, 4*time.Second, 50*time.Millisecond, "%s is not told", o.trouble)
			told := time.Since(began)
			time.Sleep(o.lasts - time.Since(began))
			if o.trouble != readOnly && o.trouble != diskFull {
				began := time.Now()
				status, text := a.try("GET", "/domains", nil)
				assert.Equal(t, http.StatusServiceUnavailable, status, "%s: %s", o.trouble, text)
				assert.Less(t, time.Since(began), 2*time.Second, "%s: a page does not hang", o.trouble)
			}
			p.become(well)
			back := time.Now()
			require.Eventually(t, func() bool { ready, _, _ := readiness(t, a.at); return ready }, 2*time.Minute, 50*time.Millisecond, "%s: it is back, and that is not told", o.trouble)
			t.Logf("%s: told after %s, and that it was over after %s", o.trouble, told.Round(time.Millisecond), time.Since(back).Round(time.Millisecond))
			before := acknowledged.Load()
			heard := reported.Load()
			require.Eventually(t, func() bool { return acknowledged.Load() > before && reported.Load() > heard }, 2*time.Minute, 20*time.Millisecond, "%s: work goes on", o.trouble)
			time.Sleep(1500 * time.Millisecond) // until the next look at the database
		}
	}
	p.become(slow)
	for range 5 {
		ready, took, said := readiness(t, a.at)
		require.True(t, ready, "slow is not away: %s", said)
		require.Less(t, took, 2*time.Second)
		time.Sleep(100 * time.Millisecond)
	}
	p.become(well)
	close(stop)
	load.Wait()

	var last syncState
	require.Eventually(t, func() bool { // syncs that were under way end, and the last one writes the newest records
		status, text := a.try("POST", "/zones/tides.example/syncs", map[string]any{"account": "heron-main"})
		var started struct{ Items []syncState }
		if status >= 300 || json.Unmarshal(text, &started) != nil {
			return false
		}
		last = a.synced(started.Items[0].ID)
		return true
	}, 2*time.Minute, 200*time.Millisecond)
	live, _ := target.live(t)
	var n int64
	for _, r := range live.Records() {
		if r.Type == record.TXT {
			_, _ = fmt.Sscanf(string(r.Data), `"%d"`, &n)
		}
	}
	assert.GreaterOrEqual(t, n, acknowledged.Load(), "what was acknowledged is live")
	assert.LessOrEqual(t, n, tried.Load())
	var possible []string // the last report that was answered, or one that was sent after it
	for i := reported.Load(); i <= sent.Load(); i++ {
		possible = append(possible, address(i))
	}
	at := live.At(dnsname.MustParse(gauge.name))
	require.Len(t, at, 1)
	assert.Contains(t, possible, string(at[0].Data), "the address that was acknowledged last is live")
	db := database(t, s)
	var open, lines int
	require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM jobs WHERE kind IN ('check', 'look', 'sequence') AND state = 'open'").Scan(&open))
	assert.GreaterOrEqual(t, open, 3, "checks, looks and numbering go on")
	require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM logbook WHERE action = 'database.away'").Scan(&lines))
	assert.Equal(t, total, lines, "one line for each outage")
	t.Logf("%d outages, %d changes tried, %d acknowledged; %d reports tried, the last one acknowledged was %d; sync %d was the last",
		total, tried.Load(), acknowledged.Load(), sent.Load(), reported.Load(), last.ID)
}
