package e2e

import (
	"context"
	"database/sql"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"encoding/json"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/demo"
	"beacon/reach"
	"beacon/service"
	"beacon/store"
)

// manyZones puts zones of ten records each, with domains and placements, into the database of a stage.
func manyZones(t *testing.T, s *demo.Stage, n int) {
	t.Helper()
	settings, err := service.ReadSettings(filepath.Join(s.Dir, "beacon.yaml"))
	require.NoError(t, err)
	ctx := context.Background()
	db, err := store.Open(ctx, settings.Database, reach.Loopback(), nil)
	require.NoError(t, err)
	defer db.Close()
	const batch = 500
	for start := 0; start < n; start += batch {
		require.NoError(t, db.Tx(ctx, func(tx *store.Tx) error {
			account, err := tx.Account("provider", "heron-main")
			require.NoError(t, err)
			for i := start; i < min(start+batch, n); i++ {
				z, err := tx.AddZone(dnsname.MustParse(fmt.Sprintf("mooring-%06d.example", i)))
				require.NoError(t, err)
				var records []record.Record
				for k := range 10 {
					name, err := z.Name().Child(fmt.Sprintf("h%d", k))
					require.NoError(t, err)
					records = append(records, record.Record{Name: name, TTL: 300, Type: record.A, Data: record.Data(fmt.Sprintf("192.0.2.%d", i%250))})
				}
				_, _, err = tx.AddRevision(z, record.NewContents(records), store.Accepted{Author: "admin", Source: "many"})
				require.NoError(t, err)
				_, err = tx.EnsureDomain(z.ID)
				require.NoError(t, err)
				_, err = tx.Place(z.ID, account.ID)
				require.NoError(t, err)
			}
			return nil
		}))
	}
}

// counter reads a number that the database counts.
func counter(t *testing.T, db *sql.DB, name string) (n float64) {
	t.Helper()
	require.NoError(t, db.QueryRow("SELECT VARIABLE_VALUE FROM information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME = ?", name).Scan(&n))
	return n
}

// walk asks for every page of a list, and returns how long each took and how many items there were.
func (a *asker) walk(path string) (took []time.Duration, items int) {
	a.t.Helper()
	for cursor := ""; ; {
		req, err := http.NewRequest("GET", a.stage.Address()+"/api/v1"+path+"?limit=100&cursor="+url.QueryEscape(cursor), nil)
		require.NoError(a.t, err)
		req.Header.Set("Authorization", "Bearer "+a.token)
		began := time.Now()
		res, err := http.DefaultClient.Do(req)
		require.NoError(a.t, err)
		text, err := io.ReadAll(res.Body)
		res.Body.Close()
		require.NoError(a.t, err)
		took = append(took, time.Since(began))
		var page struct {
			Items []json.RawMessage
			Next  string
		}
		require.NoError(a.t, json.Unmarshal(text, &page), string(text))
		items += len(page.Items)
		if cursor = page.Next; cursor == "" {
			return took, items
		}
	}
}

// process returns how much memory a process has, in MB, and how much CPU time it has used.
func process(t *testing.T, pid int) (mb int, cpu time.Duration) {
	t.Helper()
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	for _, line := range strings.Split(string(status), "\n") {
		if f := strings.Fields(line); len(f) > 1 && f[0] == "VmRSS:" {
			kb, _ := strconv.Atoi(f[1])
			mb = kb / 1024
		}
	}
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	require.NoError(t, err)
	f := strings.Fields(string(stat)[strings.LastIndex(string(stat), ")"):])
	user, _ := strconv.Atoi(f[12])
	system, _ := strconv.Atoi(f[13])
	return mb, time.Duration(user+system) * 10 * time.Millisecond
}

// However many zones there are, a page of a list costs a few queries and no more, and a service with nothing to do asks its database for
// next to nothing. With BEACON_SPEED it is measured with 100,000 zones.
func TestManyZones(t *testing.T) {
	t.Parallel()
	n, idle := 250, 3*time.Second
	speed := os.Getenv("BEACON_SPEED") != ""
	if speed {
		n, idle = 100_000, 20*time.Second
	}
	s := stage(t, options(t, 1, "drift: {every: 0s}\nchecks: {settling: 24h, settled: 24h, brief: 0s, margin: 1s}\n"))
	manyZones(t, s, n)
	_, err := database(t, s).Exec("UPDATE zones SET rows_revision_id = revision_id") // the rows for searching are not what is measured
	require.NoError(t, err)
	s.KillService()
	began := time.Now()
	require.NoError(t, s.StartService(context.Background()))
	started := time.Since(began)
	a, db := signedIn(t, s), database(t, s)
	lists := map[string][]time.Duration{}
	for _, path := range []string{"/domains", "/zones", "/placements", "/hosts"} {
		before := counter(t, db, "COM_SELECT")
		took, items := a.walk(path)
		selects := counter(t, db, "COM_SELECT") - before - 2 // and the two that asked
		spare := 10 * (1 + time.Duration(len(took))*20*time.Millisecond/time.Second)
		assert.LessOrEqual(t, selects, float64(6*len(took))+float64(spare), "%s: %d pages", path, len(took))
		if path != "/hosts" {
			assert.GreaterOrEqual(t, items, n, path)
		}
		slices.Sort(took)
		lists[path] = took
		t.Logf("%s: %d items on %d pages, %.1f queries a page, median %s, p99 %s", path, items, len(took), selects/float64(len(took)), took[len(took)/2].Round(10*time.Microsecond), took[len(took)*99/100].Round(10*time.Microsecond))
	}
	for _, path := range []string{"/domain-counts", "/domains?limit=100&verdict=settled", "/domains?limit=100&name=mooring-0000"} {
		var took []time.Duration
		for range 10 {
			began := time.Now()
			a.ask("GET", path, nil, nil)
			took = append(took, time.Since(began))
		}
		slices.Sort(took)
		t.Logf("%s: median %s", path, took[len(took)/2].Round(10*time.Microsecond))
	}
	quiet := func() (state string) { // nothing is due, and nothing was logged
		require.NoError(t, db.QueryRow(`SELECT CONCAT((SELECT COUNT(*) FROM jobs WHERE state = 'open' AND due_at < UTC_TIMESTAMP(6) + INTERVAL 1 SECOND AND kind <> 'sequence'), ' ',
			(SELECT COALESCE(MAX(id), 0) FROM logbook))`).Scan(&state))
		return state
	}
	for last := ""; ; {
		now := quiet()
		if strings.HasPrefix(now, "0 ") && now == last {
			break
		}
		last = now
		time.Sleep(3 * time.Second) // longer than the pauses of what looks for new lines
	}
	questions := counter(t, db, "QUESTIONS")
	_, before := process(t, s.ServicePID())
	time.Sleep(idle)
	mb, after := process(t, s.ServicePID())
	perSecond := (counter(t, db, "QUESTIONS") - questions - 1) / idle.Seconds()
	assert.Less(t, perSecond, 10.0, "queries a second of an idle service")
	t.Logf("%d zones: started in %s, %d MB, idle: %.1f queries/s, %.1f %% of a core", n, started.Round(time.Millisecond), mb, perSecond, 100*(after-before).Seconds()/idle.Seconds())
}
