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
	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/reach"
	"beacon/resolve"
	"beacon/resolve/peerstest"
	"beacon/service"
	"beacon/service/check"
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

// blank makes all that brief looks came to unknown, so that each outcome of the next ones has to be written.
func blank(t *testing.T, s *store.Store) {
	t.Helper()
	require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error {
		run, err := tx.BeginBriefChecks(time.Now())
		require.NoError(t, err)
		list, err := tx.ToCheckBriefly(0, 1<<20)
		require.NoError(t, err)
		var looks []store.BriefCheck
		for _, d := range list {
			looks = append(looks, store.BriefCheck{DomainID: d.DomainID, Verdict: delegation.Unknown})
		}
		now := time.Now()
		run.Ended = &now
		return tx.KeepBriefChecks(run, looks)
	}))
}

// A brief look at thousands of domains, each judged and stored, in turns with dnsperf at the same servers: where each outcome is another
// one than before, and where none is.
func TestSpeedOfBriefChecks(t *testing.T) {
	if os.Getenv("BEACON_SPEED") == "" && os.Getenv("BEACON_TEST_NAMESPACE") == "" {
		t.Skip("a measurement, made by make bench")
	}
	if !peerstest.InNamespace(t) {
		return
	}
	const n, turns, questions = 20000, 5, 6 // of each domain: two parents, and SOA and NS at two nameservers
	defer debug.SetGCPercent(debug.SetGCPercent(resolve.GCPercent))
	l, names := peerstest.Many(t, n)
	dir := t.TempDir()
	hints := filepath.Join(dir, "roots.zone")
	require.NoError(t, os.WriteFile(hints, []byte(l.Hints), 0o600))
	database := storetest.Settings(t)
	fill(t, database, names)
	beside, err := store.Open(ctx, database, reach.Loopback(), clock.Wall{}.Now)
	require.NoError(t, err)
	defer beside.Close()
	svc, err := service.Open(ctx, service.Settings{Database: database, KeyFile: filepath.Join(dir, "key"), AllowedNetworks: []string{"127.0.0.0/8"},
		DNS: service.DNSSettings{RootHints: hints, Port: netip.MustParseAddrPort(l.At(peerstest.Root)).Port(), PerSecond: -1}, Checks: check.CheckSettings{Settling: time.Hour, Settled: time.Hour},
		Lease: 10 * time.Second, Request: time.Second, Workers: 2, Profiles: "../demo/profiles"}, drivers(t), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	running, stop := context.WithCancel(ctx)
	var group sync.WaitGroup
	group.Go(func() { svc.Run(running) })
	defer func() { stop(); group.Wait(); svc.Close() }()
	type figures struct{ domains, best, ratios, costs []float64 }
	var all, none figures
	for turn := range 2 * turns {
		f := &none
		if turn%2 == 0 {
			f = &all
			blank(t, beside)
		}
		yard := l.Yardstick(names)
		began := time.Now()
		before, _ := peerstest.Used(t)
		g, err := svc.Checks.StartBriefChecks(ctx, access.Service)
		require.NoError(t, err)
		for g.Ended == nil {
			time.Sleep(50 * time.Millisecond)
			g, err = svc.Checks.BriefChecksSince(ctx, access.Service, g.Since)
			require.NoError(t, err)
			require.Less(t, time.Since(began), time.Minute, "%v", g)
		}
		took := time.Since(began)
		after, _ := peerstest.Used(t)
		require.Equal(t, n, g.Verdicts[delegation.Settled])
		f.domains, f.best = append(f.domains, n/took.Seconds()), append(f.best, yard)
		f.ratios, f.costs = append(f.ratios, questions*n/took.Seconds()/yard), append(f.costs, float64((after-before).Microseconds())/n)
	}
	_, peak := peerstest.Used(t)
	for _, f := range []struct {
		what string
		figures
	}{{"each otherwise than before", all}, {"none otherwise than before", none}} {
		for _, list := range [][]float64{f.domains, f.best, f.ratios, f.costs} {
			slices.Sort(list)
		}
		t.Logf("%d domains, judged and stored, %s, medians of %d turns: %.0f domains/s, %.0f questions/s (dnsperf: %.0f; %.2f of it, from %.2f to %.2f), %.0f µs of CPU a domain, %d MB at most",
			n, f.what, turns, f.domains[turns/2], questions*f.domains[turns/2], f.best[turns/2], f.ratios[turns/2], f.ratios[0], f.ratios[turns-1], f.costs[turns/2], peak)
	}
}
