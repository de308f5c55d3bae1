package resolve

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
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
	out, err := exec.Command("dnsperf", "-s", l.IP(peerstest.East), "-d", file, "-l", "4", "-c", "8", "-q", "400").CombinedOutput()
	require.NoError(t, err, string(out))
	var rate float64
	_, err = fmt.Sscan(rateOf.FindStringSubmatch(string(out))[1], &rate)
	require.NoError(t, err)
	return rate
}

// Sweeping thousands of delegated domains, beside what dnsperf gets out of the same servers in the same run.
func TestSpeedOfSweeps(t *testing.T) {
	if os.Getenv("BEACON_SPEED") == "" && os.Getenv("BEACON_TEST_NAMESPACE") == "" {
		t.Skip("a measurement, made by make bench")
	}
	if !peerstest.InNamespace(t) {
		return
	}
	const n = 20000
	l, names := many(t, n)
	best := yardstick(t, l, names)
	hints, err := ReadHints(l.Hints, 53)
	require.NoError(t, err)
	client, err := NewClient(reach.Loopback(), Options{PerSecond: -1, PerServer: 1024})
	require.NoError(t, err)
	defer client.Close()
	s := &Sweeper{Client: client, Hints: hints, Port: 53, Now: time.Now}
	round := s.NewRound()
	runtime.GC()
	began, used := time.Now(), cpu()
	var asked, settled, next atomic.Int64
	var group sync.WaitGroup
	for range 256 {
		group.Go(func() {
			for i := next.Add(1) - 1; i < n; i = next.Add(1) - 1 {
				sweep := round.Sweep(context.Background(), names[i], Scope{Brief: true})
				r := delegation.Judge(delegation.Plan{Domain: names[i]}, delegation.Advance(delegation.History{}, sweep), sweep)
				asked.Add(int64(sweep.Asked))
				if r.Verdict == delegation.Settled {
					settled.Add(1)
				}
			}
		})
	}
	group.Wait()
	took, used := time.Since(began), cpu()-used
	rate := float64(asked.Load()) / took.Seconds()
	t.Logf("%d domains in %.2f s: %.0f domains/s, %.0f questions/s (dnsperf: %.0f, so %.2f of it), %.0f µs of CPU a domain, verdict settled for %d",
		n, took.Seconds(), n/took.Seconds(), rate, best, rate/best, float64(used.Microseconds())/n, settled.Load())
	require.EqualValues(t, n, settled.Load())
}
