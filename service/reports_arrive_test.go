package service_test

import (
	"database/sql"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/api"
	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/practice/practicetest"
	"beacon/service"
	"beacon/wire"
)

// fleet makes hosts, half of them in one zone and the rest spread over others, all at one account, and returns their tokens, those of the one zone first.
func (h house) fleet(hosts, zones int) (tokens []string) {
	h.t.Helper()
	var text strings.Builder
	text.WriteString("zones:\n")
	for z := range zones + 1 {
		fmt.Fprintf(&text, "  fleet-%d.example:\n    providers: [heron-main]\n    records: |\n      @ A 192.0.2.1\n", z)
	}
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "fleet.beacon.yaml", Text: text.String()}}, Sync: true})
	require.NoError(h.t, err)
	for z := range zones + 1 {
		name := dnsname.MustParse(fmt.Sprintf("fleet-%d.example", z))
		require.Eventually(h.t, func() bool {
			list, err := h.Overview.Syncs(ctx, access.Service, name)
			require.NoError(h.t, err)
			return len(list) > 0 && list[0].State == wire.SyncDone
		}, 2*time.Minute, 50*time.Millisecond, name)
	}
	for i := range hosts {
		zone := 0
		if i >= hosts/2 {
			zone = 1 + i%zones
		}
		added, err := h.Hosts.AddHost(ctx, access.Service, wire.NewHost{Name: dnsname.MustParse(fmt.Sprintf("h%d.fleet-%d.example", i, zone)), V4: true, Policy: steady})
		require.NoError(h.t, err)
		tokens = append(tokens, added.Token)
	}
	return tokens
}

// TestReportsArrive has hosts report at a steady rate, half of them in one zone and the rest in others, and measures how long each takes until every nameserver of the
// provider serves it, or a newer one of the same host. All arrive; how quickly is for make bench.
func TestReportsArrive(t *testing.T) {
	rate, hosts, zones, span := 40, 60, 10, 3*time.Second
	if os.Getenv("BEACON_SPEED") != "" {
		rate, hosts, zones, span = 100, 500, 200, 2*time.Minute
	} else {
		t.Parallel()
	}
	h := newHouseIn(t, practicetest.Start(t, 1), func(*service.Settings, string) {}) // in real time: checks of settling zones are no part of this
	tokens := h.fleet(hosts, zones)
	server := httptest.NewServer(api.New(h.Service, slog.New(slog.DiscardHandler)))
	defer server.Close()
	var group sync.WaitGroup
	ticker := time.NewTicker(time.Second / time.Duration(rate))
	defer ticker.Stop()
	sent := 0
	for begin := time.Now(); time.Since(begin) < span; sent++ {
		<-ticker.C
		half := len(tokens) / 2
		i := sent / 2 % half
		if sent%2 == 1 {
			i += half
		}
		address := fmt.Sprintf("198.51.100.%d", 1+sent/len(tokens)%250)
		group.Go(func() {
			req, err := http.NewRequest("GET", server.URL+api.Base+"/report?v4="+address, nil)
			if !assert.NoError(t, err) {
				return
			}
			req.Header.Set("Authorization", "Bearer "+tokens[i])
			res, err := http.DefaultClient.Do(req)
			if assert.NoError(t, err) {
				assert.Equal(t, http.StatusOK, res.StatusCode)
				res.Body.Close()
			}
		})
	}
	group.Wait()
	db, err := sql.Open("mysql", h.settings.Database.User+":"+h.settings.Database.Password+"@unix("+h.settings.Database.Socket+")/"+h.settings.Database.Database+"?parseTime=true")
	require.NoError(t, err)
	defer db.Close()
	require.Eventually(t, func() bool {
		var open int
		require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM hosts h LEFT JOIN arrivals v ON v.report_id = h.report_id WHERE h.unspread OR h.report_id IS NOT NULL AND v.visible_at IS NULL").Scan(&open))
		return open == 0
	}, 3*time.Minute, 50*time.Millisecond, "all arrive")
	rows, err := db.Query(`SELECT r.host_id, r.reported_at, r.accepted_at, v.written_at, v.visible_at FROM reports r LEFT JOIN arrivals v ON v.report_id = r.id WHERE r.outcome = 'accepted' ORDER BY r.host_id DESC, r.id DESC`)
	require.NoError(t, err)
	defer rows.Close()
	var accepted, written, visible []time.Duration
	overtaken, longest, run := 0, 0, 0
	var host uint64
	var writtenBy, visibleBy time.Time
	for rows.Next() {
		var id uint64
		var reported, taken time.Time
		var wrote, seen *time.Time
		require.NoError(t, rows.Scan(&id, &reported, &taken, &wrote, &seen))
		if id != host {
			host, run = id, 0
		}
		if seen == nil {
			overtaken++
			run++
		} else {
			run = 0
			writtenBy, visibleBy = *wrote, *seen
		}
		longest = max(longest, run)
		accepted, written, visible = append(accepted, taken.Sub(reported)), append(written, writtenBy.Sub(reported)), append(visible, visibleBy.Sub(reported))
	}
	require.NoError(t, rows.Err())
	at := func(list []time.Duration, share float64) time.Duration {
		slices.Sort(list)
		return list[int(share*float64(len(list)-1))].Round(time.Millisecond)
	}
	t.Logf("arrivals: %d reports at %d/s of %d hosts: accepted p50 %v p99 %v, written p50 %v p99 %v, visible p50 %v p99 %v; %d overtaken, at most %d in a row", len(visible), rate, hosts,
		at(accepted, 0.5), at(accepted, 0.99), at(written, 0.5), at(written, 0.99), at(visible, 0.5), at(visible, 0.99), overtaken, longest)
	assert.Less(t, longest, 2, "no set is older than two reports")
}
