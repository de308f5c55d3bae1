package resolve

import (
	"context"
	"os"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/reach"
	"beacon/resolve/peerstest"
)

// sweepAll sweeps and judges all domains briefly, and gives how many questions that took.
func sweepAll(t testing.TB, s *Sweeper, names []dnsname.Name) (asked int64) {
	t.Helper()
	round := s.NewRound()
	var questions, settled, next atomic.Int64
	var group sync.WaitGroup
	for range 256 {
		group.Go(func() {
			for i := next.Add(1) - 1; i < int64(len(names)); i = next.Add(1) - 1 {
				sweep := round.Sweep(context.Background(), names[i], Scope{Brief: true})
				r := delegation.Judge(delegation.Plan{Domain: names[i]}, delegation.Advance(delegation.History{}, sweep), sweep)
				questions.Add(int64(sweep.Asked))
				if r.Verdict == delegation.Settled {
					settled.Add(1)
				}
			}
		})
	}
	group.Wait()
	require.EqualValues(t, len(names), settled.Load())
	return questions.Load()
}

func median(list []float64) float64 {
	slices.Sort(list)
	return list[len(list)/2]
}

// Sweeping thousands of delegated domains, beside what dnsperf gets out of the same servers. The machine's own speed changes from second
// to second, so that the two take turns, and the median of their ratios counts.
func TestSpeedOfSweeps(t *testing.T) {
	if os.Getenv("BEACON_SPEED") == "" && os.Getenv("BEACON_TEST_NAMESPACE") == "" {
		t.Skip("a measurement, made by make bench")
	}
	if !peerstest.InNamespace(t) {
		return
	}
	const n, turns = 20000, 7
	defer debug.SetGCPercent(debug.SetGCPercent(GCPercent))
	l, texts := peerstest.Many(t, n)
	names := make([]dnsname.Name, n)
	for i, text := range texts {
		names[i] = dnsname.MustParse(text)
	}
	hints, err := ReadHints(l.Hints, 53)
	require.NoError(t, err)
	client, err := NewClient(reach.Loopback(), Options{PerSecond: -1, PerServer: 1024})
	require.NoError(t, err)
	defer client.Close()
	s := &Sweeper{Client: client, Hints: hints, Port: 53, Now: time.Now}
	var domains, questions, best, ratios, costs []float64
	for range turns {
		yard := l.Yardstick(texts)
		began := time.Now()
		before, _ := peerstest.Used(t)
		asked := sweepAll(t, s, names)
		took := time.Since(began)
		after, _ := peerstest.Used(t)
		domains, questions = append(domains, n/took.Seconds()), append(questions, float64(asked)/took.Seconds())
		best, ratios = append(best, yard), append(ratios, float64(asked)/took.Seconds()/yard)
		costs = append(costs, float64((after-before).Microseconds())/n)
	}
	_, peak := peerstest.Used(t)
	t.Logf("%d domains, medians of %d turns: %.0f domains/s, %.0f questions/s (dnsperf: %.0f; %.2f of it, from %.2f to %.2f), %.0f µs of CPU a domain, %d MB at most",
		n, turns, median(domains), median(questions), median(best), median(ratios), slices.Min(ratios), slices.Max(ratios), median(costs), peak)
}
