package service_test

import (
	"database/sql"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/require"

	"beacon/api"
	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/practice/practicetest"
	"beacon/service"
	"beacon/wire"
)

// manyHosts makes hosts, spread over zones that are at no provider, and returns their tokens.
func (h house) manyHosts(hosts, zones int) (tokens []string) {
	h.t.Helper()
	var text strings.Builder
	text.WriteString("zones:\n")
	for z := range zones {
		fmt.Fprintf(&text, "  many-%d-%d.example:\n    records: |\n      @ A 192.0.2.1\n", zones, z)
	}
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "many.beacon.yaml", Text: text.String()}}})
	require.NoError(h.t, err)
	for i := range hosts {
		added, err := h.Hosts.AddHost(ctx, access.Service, wire.NewHost{Name: dnsname.MustParse(fmt.Sprintf("h%d.many-%d-%d.example", i, zones, i%zones)), V4: true, Policy: steady})
		require.NoError(h.t, err)
		tokens = append(tokens, added.Token)
	}
	return tokens
}

// load has clients report for a while, each with its own tokens in turn, and returns how many reports a second were answered as they are to be.
func load(t testing.TB, address string, tokens []string, clients int, span time.Duration, want string, report func(n int) string) float64 {
	t.Helper()
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: clients, DialContext: (&net.Dialer{}).DialContext}}
	defer client.CloseIdleConnections()
	var done atomic.Int64
	var wrong atomic.Value
	var group sync.WaitGroup
	begin := time.Now()
	for c := range clients {
		group.Go(func() {
			for n := 0; time.Since(begin) < span; n++ {
				req, err := http.NewRequest("GET", address+"?v4="+report(n/(len(tokens)/clients)), nil)
				if err != nil {
					wrong.Store(err.Error())
					return
				}
				req.Header.Set("Authorization", "Bearer "+tokens[c+clients*(n%(len(tokens)/clients))])
				res, err := client.Do(req)
				if err != nil {
					wrong.Store(err.Error())
					return
				}
				text, err := io.ReadAll(res.Body)
				res.Body.Close()
				if err != nil || !strings.HasPrefix(string(text), want) {
					wrong.Store(fmt.Sprint(string(text), err))
					return
				}
				done.Add(1)
			}
		})
	}
	group.Wait()
	if said := wrong.Load(); said != nil {
		require.FailNow(t, "a report was not taken", "%v", said)
	}
	return float64(done.Load()) / time.Since(begin).Seconds()
}

// bareHandler checks a token as a report does, and inserts one row of the same size, or nothing.
func (h house) bareHandler(inserts bool) http.Handler {
	db, err := sql.Open("mysql", h.settings.Database.User+":"+h.settings.Database.Password+"@unix("+h.settings.Database.Socket+")/"+h.settings.Database.Database+"?interpolateParams=true")
	require.NoError(h.t, err)
	h.t.Cleanup(func() { _ = db.Close() })
	db.SetMaxIdleConns(64)
	_, err = db.Exec("CREATE TABLE IF NOT EXISTS bare_reports (id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, host_id BIGINT UNSIGNED NOT NULL, outcome VARCHAR(20), reason VARCHAR(255), v4 VARCHAR(45), v6 VARCHAR(45), peer VARCHAR(45), uplink VARCHAR(63), actor VARCHAR(100), times INT, reported_at DATETIME(6), accepted_at DATETIME(6), KEY bare_host (host_id, id))")
	require.NoError(h.t, err)
	gin.SetMode(gin.ReleaseMode)
	engine := gin.New()
	engine.GET("/", func(c *gin.Context) {
		token := strings.TrimPrefix(c.GetHeader("Authorization"), "Bearer ")
		from, _ := netip.ParseAddr(c.ClientIP())
		caller, err := h.Users.Caller(c.Request.Context(), token, from, access.Report)
		if err == nil && inserts {
			now := time.Now()
			_, err = db.ExecContext(c.Request.Context(), "INSERT INTO bare_reports (host_id, outcome, reason, v4, v6, peer, uplink, actor, times, reported_at, accepted_at) VALUES (?, 'accepted', '', ?, '', ?, 'main', ?, 1, ?, ?)",
				caller.Uplink, c.Query("v4"), from.String(), caller.Name, now, now)
		}
		if err != nil {
			c.String(http.StatusInternalServerError, err.Error())
			return
		}
		c.String(http.StatusOK, "bare")
	})
	return engine
}

// TestReportSpeed measures reports a second beside a bare handler that checks the token in the same way, and inserts one row: accepted ones of hosts that are spread
// over zones, and of one zone; unchanged ones beside that handler without the insert. It measures; what is slow fails nothing.
func TestReportSpeed(t *testing.T) {
	hosts, turns, span := 64, 1, 100*time.Millisecond
	if os.Getenv("BEACON_SPEED") != "" {
		hosts, turns, span = 2000, 6, 1000*time.Millisecond
	} else {
		t.Parallel()
	}
	h := newHouseIn(t, practicetest.Start(t, 1), func(*service.Settings, string) {})
	wide, one, still := h.manyHosts(hosts, 50), h.manyHosts(hosts, 1), h.manyHosts(hosts, 49)
	serve := func(handler http.Handler, path string) string {
		server := httptest.NewServer(handler)
		t.Cleanup(server.Close)
		return server.URL + path
	}
	ours := serve(api.New(h.Service, slog.New(slog.DiscardHandler)), api.Base+"/report")
	bare, look := serve(h.bareHandler(true), "/"), serve(h.bareHandler(false), "/")
	h.everyHost(ours, still, "198.51.100.251")
	round := 0
	changing := func(n int) string { return fmt.Sprintf("198.51.100.%d", 1+(n+round)%250) }
	same := func(int) string { return "198.51.100.251" }
	for _, clients := range []int{1, 8, 32} {
		var sums [5]float64
		for range turns { // in turns, so that what else goes on at the machine is shared
			for i, run := range []func() float64{
				func() float64 { return load(t, bare, wide, clients, span, "bare", changing) },
				func() float64 { return load(t, ours, wide, clients, span, "accepted", changing) },
				func() float64 { return load(t, ours, one, clients, span, "accepted", changing) },
				func() float64 { return load(t, look, still, clients, span, "bare", same) },
				func() float64 { return load(t, ours, still, clients, span, "unchanged", same) },
			} {
				for h.Hosts.Spreads() { // what the turn before accepted
					time.Sleep(20 * time.Millisecond)
				}
				sums[i] += run() / float64(turns)
				round += 29
			}
		}
		t.Logf("%2d clients: bare %5.0f/s; accepted, spread %5.0f/s (%.2f), one zone %5.0f/s (%.2f); bare without the insert %5.0f/s, unchanged %5.0f/s (%.2f)",
			clients, sums[0], sums[1], sums[1]/sums[0], sums[2], sums[2]/sums[0], sums[3], sums[4], sums[4]/sums[3])
	}
}

// everyHost has each host report an address once.
func (h house) everyHost(address string, tokens []string, v4 string) {
	h.t.Helper()
	for _, token := range tokens {
		req, err := http.NewRequest("GET", address+"?v4="+v4, nil)
		require.NoError(h.t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(h.t, err)
		_, _ = io.Copy(io.Discard, res.Body)
		res.Body.Close()
	}
}
