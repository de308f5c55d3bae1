package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"regexp"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/wire"
)

// peak is how much memory a process had at most, in MB.
func peak(t *testing.T, pid int) int {
	t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	found := regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindSubmatch(text)
	require.NotNil(t, found)
	kb, err := strconv.Atoi(string(found[1]))
	require.NoError(t, err)
	return kb / 1024
}

// A large zone file is imported as it is, and judged. With BEACON_SPEED it has a million records, and the service stays below 1.5 GB.
func TestLargeZoneFiles(t *testing.T) {
	t.Parallel()
	records, most := 6_000, 500
	if os.Getenv("BEACON_SPEED") != "" {
		records, most = 1_000_000, 1500
	}
	s := stage(t, options(t, 60, ""))
	a := signedIn(t, s)
	var file bytes.Buffer
	file.WriteString("$TTL 300\n@ SOA ns1.moor.test. admin.moor.test. 1 3600 600 86400 300\n@ NS ns1.moor.test.\n")
	for i := range records {
		fmt.Fprintf(&file, "host-%07d A 198.51.%d.%d\n", i, i/200%256, i%200+1)
	}
	began := time.Now()
	req, err := http.NewRequest("POST", s.Address()+"/api/v1/zones/large.example/imports?file=large.zone", &file)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+a.token)
	req.Header.Set("Content-Type", "text/dns")
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, res.StatusCode, "%.300s", text)
	var got wire.Imported
	require.NoError(t, json.Unmarshal(text, &got))
	assert.Equal(t, records, got.Counts.Added)
	assert.Len(t, got.Added, wire.MostImported)
	took := time.Since(began)
	began = time.Now()
	var found wire.Page[struct{ Code string }]
	a.ask("GET", "/zones/large.example/findings", nil, &found)
	checked := time.Since(began)
	began = time.Now()
	require.Eventually(t, func() bool { // the rows for searching follow in the background
		status, text := a.try("GET", fmt.Sprintf("/records?name=host-%07d.*", records-1), nil)
		return status == http.StatusOK && bytes.Contains(text, []byte("large.example"))
	}, 4*time.Minute, 500*time.Millisecond)
	t.Logf("%d records: imported in %.1f s, judged in %.1f s, found by a search after another %.0f s; the service had %d MB at most", records, took.Seconds(), checked.Seconds(),
		time.Since(began).Seconds(), peak(t, s.ServicePID()))
	assert.Less(t, peak(t, s.ServicePID()), most)
}
