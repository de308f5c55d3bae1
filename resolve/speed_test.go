package resolve

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/reach"
	"beacon/resolve/peerstest"
)

// many makes a registry with so many domains, and two servers that have all of them.
func many(t testing.TB, n int) (*peerstest.Lab, []dnsname.Name) {
	l := peerstest.New(t)
	zone := peerstest.Zone("@", 7, hosts, "@ A 192.0.2.1")
	zone = strings.Replace(zone, "$ORIGIN @\n", "", 1)
	names := make([]dnsname.Name, n)
	for i := range n {
		text := fmt.Sprintf("pier-%05d.example.", i)
		names[i] = dnsname.MustParse(text)
		l.Delegate(text+" NS ns1.hosts.example.", text+" NS ns2.hosts.example.")
		l.ServeSame(peerstest.East, text, zone)
	}
	l.StartPlain()
	return l, names
}

// cpu is how much of the processors this process has used.
func cpu() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

var rateOf = regexp.MustCompile(`Queries per second:\s+([0-9.]+)`)

// yardstick has dnsperf put the same questions to the same servers.
func yardstick(t testing.TB, l *peerstest.Lab, names []dnsname.Name) float64 {
	t.Helper()
	var b strings.Builder
	for _, n := range names {
		fmt.Fprintf(&b, "%s SOA\n%s NS\n", n, n)
	}
	file := filepath.Join(t.TempDir(), "questions")
	require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o600))
	out, err := exec.Command("dnsperf", "-s", l.IP(peerstest.East), "-d", file, "-l", "1", "-c", "8", "-q", "400").CombinedOutput()
	require.NoError(t, err, string(out))
	var rate float64
	_, err = fmt.Sscan(rateOf.FindStringSubmatch(string(out))[1], &rate)
	require.NoError(t, err)
	return rate
}

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
	l, names := many(t, n)
	hints, err := ReadHints(l.Hints, 53)
	require.NoError(t, err)
	client, err := NewClient(reach.Loopback(), Options{PerSecond: -1, PerServer: 1024})
	require.NoError(t, err)
	defer client.Close()
	s := &Sweeper{Client: client, Hints: hints, Port: 53, Now: time.Now}
	var domains, questions, best, ratios, costs []float64
	for range turns {
		yard := yardstick(t, l, names)
		began, used := time.Now(), cpu()
		asked := sweepAll(t, s, names)
		took, used := time.Since(began), cpu()-used
		domains, questions = append(domains, n/took.Seconds()), append(questions, float64(asked)/took.Seconds())
		best, ratios = append(best, yard), append(ratios, float64(asked)/took.Seconds()/yard)
		costs = append(costs, float64(used.Microseconds())/n)
	}
	var usage syscall.Rusage
	require.NoError(t, syscall.Getrusage(syscall.RUSAGE_SELF, &usage))
	t.Logf("%d domains, medians of %d turns: %.0f domains/s, %.0f questions/s (dnsperf: %.0f; %.2f of it, from %.2f to %.2f), %.0f µs of CPU a domain, %d MB at most",
		n, turns, median(domains), median(questions), median(best), median(ratios), slices.Min(ratios), slices.Max(ratios), median(costs), usage.Maxrss>>10)
}
