package e2e

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// With BEACON_SPEED it is measured what open event streams cost those who report: the rate of reports without streams and with a hundred, in
// turns. BEACON_OLD names another build of the program, which is measured beside this one.
func TestSpeedOfStreams(t *testing.T) {
	if os.Getenv("BEACON_SPEED") == "" {
		t.Skip("a measurement, made by make bench")
	}
	const hosts, streams, turns, lasts = 32, 100, 3, 5 * time.Second
	for _, build := range []struct{ name, program string }{{"this build", program}, {"the other build", os.Getenv("BEACON_OLD")}} {
		if build.program == "" {
			continue
		}
		opt := options(t, 60, "lease: 10s\nrequest_timeout: 2s\ndrift: {every: 0s}\n")
		opt.Program = build.program
		s := stage(t, opt)
		a := signedIn(t, s)
		a.define("zones:\n  tides.example:\n    providers: [heron-main]\n    records: |\n      @ A 192.0.2.1\n")
		a.synced(a.sync("tides.example"))
		reporters := gauges(a, hosts)
		rate := func(turn int) float64 {
			var answered atomic.Int64
			var group sync.WaitGroup
			end := time.Now().Add(lasts)
			for i, r := range reporters {
				group.Go(func() {
					for n := 0; time.Now().Before(end); n++ {
						r.report(t, s.Address(), fmt.Sprintf("198.51.%d.%d", 1+(turn*40+n)%250, i+1))
						answered.Add(1)
					}
				})
			}
			group.Wait()
			return float64(answered.Load()) / lasts.Seconds()
		}
		rate(0) // warm
		var without, with, got []float64
		for turn := range turns {
			without = append(without, rate(2*turn+1))
			ctx, cancel := context.WithCancel(context.Background())
			var events atomic.Int64
			var readers sync.WaitGroup
			for range streams {
				readers.Go(func() {
					req, err := http.NewRequestWithContext(ctx, "GET", s.Address()+"/api/v1/events", nil)
					if err != nil {
						return
					}
					req.Header.Set("Authorization", "Bearer "+a.token)
					res, err := http.DefaultClient.Do(req)
					if err != nil {
						return
					}
					defer res.Body.Close()
					for lines := bufio.NewScanner(res.Body); lines.Scan(); {
						if len(lines.Bytes()) > 3 && string(lines.Bytes()[:3]) == "id:" {
							events.Add(1)
						}
					}
				})
			}
			time.Sleep(500 * time.Millisecond)
			with = append(with, rate(2*turn+2))
			got = append(got, float64(events.Load())/lasts.Seconds())
			cancel()
			readers.Wait()
		}
		for _, list := range [][]float64{without, with, got} {
			slices.Sort(list)
		}
		require.NotZero(t, got[0], "the streams see events")
		t.Logf("%s: %.0f reports/s without streams, %.0f with %d (%.0f %% less), which got %.0f events/s; medians of %d turns", build.name, without[turns/2], with[turns/2], streams,
			100*(1-with[turns/2]/without[turns/2]), got[turns/2], turns)
		s.Stop()
	}
}
