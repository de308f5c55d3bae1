package service_test

import (
	"context"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"beacon/clock"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/reach"
	"beacon/resolve"
	"beacon/resolve/peerstest"
	"beacon/service"
	"beacon/store"
	"beacon/store/storetest"
)

// fill makes domains in a database.
func fill(t *testing.T, database store.Settings, names []string) {
	t.Helper()
	s, err := store.Open(ctx, database, reach.Loopback(), clock.Wall{}.Now)
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error {
		for _, name := range names {
			z, err := tx.AddZone(dnsname.MustParse(name))
			require.NoError(t, err)
			_, err = tx.EnsureDomain(z.ID)
			require.NoError(t, err)
		}
		return nil
	}))
}

// A brief look at thousands of domains, each judged and stored, in turns with dnsperf at the same servers.
func TestSpeedOfGlances(t *testing.T) {
	if os.Getenv("BEACON_SPEED") == "" && os.Getenv("BEACON_TEST_NAMESPACE") == "" {
		t.Skip("a measurement, made by make bench")
	}
	if !peerstest.InNamespace(t) {
		return
	}
	const n, turns = 20000, 5
	defer debug.SetGCPercent(debug.SetGCPercent(resolve.GCPercent))
	l, names := peerstest.Many(t, n)
	dir := t.TempDir()
	hints := filepath.Join(dir, "roots.zone")
	require.NoError(t, os.WriteFile(hints, []byte(l.Hints), 0o600))
	database := storetest.Settings(t)
	fill(t, database, names)
	svc, err := service.Open(ctx, service.Settings{Database: database, KeyFile: filepath.Join(dir, "key"), Reach: []string{"127.0.0.0/8"},
		DNS: service.DNSSettings{Roots: hints, Port: netip.MustParseAddrPort(l.At(peerstest.Root)).Port(), PerSecond: -1}, Checks: service.CheckSettings{Settling: time.Hour, Settled: time.Hour},
		Lease: 10 * time.Second, Request: time.Second, Workers: 2, Profiles: "../demo/profiles"}, drivers(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	running, stop := context.WithCancel(ctx)
	var group sync.WaitGroup
	group.Go(func() { svc.Run(running) })
	defer func() { stop(); group.Wait(); svc.Close() }()
	var domains, best, ratios, costs []float64
	for range turns {
		yard := l.Yardstick(names)
		began := time.Now()
		before, _ := peerstest.Used(t)
		g, err := svc.StartGlances(ctx)
		require.NoError(t, err)
		for g.Looked < n {
			time.Sleep(50 * time.Millisecond)
			g, err = svc.GlancesSince(ctx, g.Since)
			require.NoError(t, err)
			require.Less(t, time.Since(began), time.Minute, "%v", g)
		}
		took := time.Since(began)
		after, _ := peerstest.Used(t)
		require.Equal(t, n, g.Verdicts[delegation.Settled])
		const questions = 6 // of each domain: two parents, and SOA and NS at two nameservers
		domains, best = append(domains, n/took.Seconds()), append(best, yard)
		ratios, costs = append(ratios, questions*n/took.Seconds()/yard), append(costs, float64((after-before).Microseconds())/n)
	}
	for _, list := range [][]float64{domains, best, ratios, costs} {
		slices.Sort(list)
	}
	_, peak := peerstest.Used(t)
	t.Logf("%d domains, judged and stored, medians of %d turns: %.0f domains/s, %.0f questions/s (dnsperf: %.0f; %.2f of it, from %.2f to %.2f), %.0f µs of CPU a domain, %d MB at most",
		n, turns, domains[turns/2], 6*domains[turns/2], best[turns/2], ratios[turns/2], ratios[0], ratios[turns-1], costs[turns/2], peak)
}
