package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/demo"
)

// residentMB returns how much memory a process has, in megabytes.
func residentMB(pid int) int {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	m := regexp.MustCompile(`VmRSS:\s+(\d+) kB`).FindSubmatch(text)
	if m == nil {
		return 0
	}
	kb, _ := strconv.Atoi(string(m[1]))
	return kb / 1024
}

// requestsMade reads how many requests to providers the service has made.
func requestsMade(t *testing.T, s *demo.Stage) (n int) {
	t.Helper()
	token, err := s.SignIn(context.Background())
	require.NoError(t, err)
	req, err := http.NewRequest(http.MethodGet, s.Address()+"/metrics", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, res.StatusCode)
	defer res.Body.Close()
	var b bytes.Buffer
	_, err = b.ReadFrom(res.Body)
	require.NoError(t, err)
	for _, line := range strings.Split(b.String(), "\n") {
		if strings.HasPrefix(line, "beacon_") && strings.Contains(line, "account=") {
			v, _ := strconv.ParseFloat(line[strings.LastIndexByte(line, ' ')+1:], 64)
			n += int(v)
		}
	}
	return n
}

// Zones of twenty records at three accounts are swept for drift: nothing has changed, and each costs one small request.
// An account that does not answer delays no other. Ten thousand zones in soak, and a few in between.
func TestSweep(t *testing.T) {
	t.Parallel()
	zones, stalled := 150, 6*time.Second
	if soak() {
		zones, stalled = 10_000, 60*time.Second
	}
	s := stage(t, options(t, 1, "lease: 30s\nrequest_timeout: 10s\ndrift: {every: 1h}\n"))
	a := signedIn(t, s)
	kinds := []struct{ kind, account, site string }{{"heron", "heron-main", "4.1"}, {"curlew", "curlew-ops", "6.1"}, {"plover", "plover-old", "5.1"}}
	began := time.Now()
	for i, k := range kinds {
		lines := map[string][]string{}
		var definition strings.Builder
		definition.WriteString("zones:\n")
		for n := i; n < zones; n += len(kinds) {
			name := fmt.Sprintf("z%05d.example", n)
			fmt.Fprintf(&definition, "  %s:\n    providers: [%s]\n    records: |\n", name, k.account)
			for r := range 20 {
				lines[name] = append(lines[name], fmt.Sprintf("h%02d.%s. 3600 IN A 198.51.100.%d", r, name, r))
				fmt.Fprintf(&definition, "      h%02d A 198.51.100.%d\n", r, r)
			}
		}
		body, err := json.Marshal(map[string]any{"Provider": k.kind, "Zones": lines})
		require.NoError(t, err)
		res, err := http.Post(s.Site("control")+"/bulk", "application/json", bytes.NewReader(body))
		require.NoError(t, err)
		res.Body.Close()
		require.Equal(t, 200, res.StatusCode)
		a.define(definition.String())
	}
	t.Logf("%d zones made in %s", zones, time.Since(began).Round(time.Second))
	began = time.Now()
	for _, k := range kinds {
		status, text := a.try("GET", "/placements?limit=1", nil)
		require.Equal(t, 200, status, string(text))
		for n := range zones {
			if n%len(kinds) == map[string]int{"heron": 0, "curlew": 1, "plover": 2}[k.kind] {
				a.ask("POST", fmt.Sprintf("/zones/z%05d.example/syncs", n), map[string]string{"account": k.account}, nil)
			}
		}
	}
	db := database(t, s)
	count := func(where string) (n int) {
		require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM placements p JOIN accounts a ON a.id = p.account_id WHERE "+where).Scan(&n))
		return n
	}
	require.Eventually(t, func() bool { return count("p.state = 'in-sync'") == zones }, 20*time.Minute, 200*time.Millisecond, "first syncs")
	t.Logf("first syncs took %s", time.Since(began).Round(100*time.Millisecond))

	sweep := func() {
		_, err := db.Exec("UPDATE placements SET looked_at = NULL")
		require.NoError(t, err)
		_, err = db.Exec("UPDATE jobs SET due_at = UTC_TIMESTAMP(6) WHERE kind = 'look'")
		require.NoError(t, err)
	}
	for range 2 { // the second time the service remembers what it read
		before := requestsMade(t, s)
		began = time.Now()
		sweep()
		require.Eventually(t, func() bool { return count("p.looked_at IS NULL") == 0 }, 10*time.Minute, 20*time.Millisecond)
		took := time.Since(began)
		made := requestsMade(t, s) - before
		t.Logf("sweep of %d zones: %s, %.0f zones/s, %d requests, service at %d MB", zones, took.Round(10*time.Millisecond), float64(zones)/took.Seconds(), made, residentMB(s.ServicePID()))
		assert.Equal(t, zones, made, "one request for each zone")
		assert.Zero(t, count("p.state <> 'in-sync'"))
		time.Sleep(time.Second) // the jobs are put down
	}

	require.NoError(t, s.Control(context.Background(), "/faults", map[string]any{"site": "4.1", "delay_ms": stalled.Milliseconds()}))
	began = time.Now()
	sweep()
	require.Eventually(t, func() bool { return count("p.looked_at IS NULL AND a.name <> 'heron-main'") == 0 }, 10*time.Minute, 20*time.Millisecond)
	took := time.Since(began)
	left := count("p.looked_at IS NULL AND a.name = 'heron-main'")
	t.Logf("with one account stalled for %s, the other two were done in %s; %d zones of the stalled one were left", stalled, took.Round(10*time.Millisecond), left)
	assert.Positive(t, left, "the stalled account is still stalled")
	assert.Less(t, took, stalled+time.Duration(zones)*20*time.Millisecond)
	before := time.Now()
	a.define("zones:\n  z00001.example:\n    providers: [curlew-ops]\n    records: |\n      h00 A 198.51.100.77\n      h01 A 198.51.100.78\n")
	id := a.syncAllowed("z00001.example", "curlew-ops", "names-would-stop")
	a.synced(id)
	assert.Less(t, time.Since(before), stalled, "a sync elsewhere is not held up")
	require.NoError(t, s.Control(context.Background(), "/faults", map[string]any{"site": "4.1"}))
}
