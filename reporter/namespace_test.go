//go:build linux

package reporter

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/reporter"
	"beacon/reach"
)

// inNamespace runs the test in a network namespace of its own, where it may change addresses and routes, and reports whether this is it.
func inNamespace(t *testing.T) bool {
	t.Helper()
	if os.Getenv("BEACON_NAMESPACE") == t.Name() {
		ip(t, "link set lo up")
		return true
	}
	if exec.Command("unshare", "-rn", "true").Run() != nil {
		t.Skip("this machine gives nobody a network namespace")
	}
	c := exec.Command("unshare", "-rn", os.Args[0], "-test.run", "^"+t.Name()+"$", "-test.v")
	c.Env = append(os.Environ(), "BEACON_NAMESPACE="+t.Name())
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	for line := range strings.SplitSeq(string(out), "\n") {
		if strings.Contains(line, "measured:") {
			t.Log(strings.TrimSpace(line))
		}
	}
	return false
}

func ip(t *testing.T, command string) {
	t.Helper()
	out, err := exec.Command("ip", strings.Fields(command)...).CombinedOutput()
	require.NoError(t, err, "ip %s: %s", command, out)
}

// ear is a service that hears reports.
type ear struct {
	*httptest.Server
	mu    sync.Mutex
	heard map[string]string // the newest value of each parameter
	count int
	down  atomic.Bool
}

func newEar(t *testing.T) *ear {
	e := &ear{heard: map[string]string{}}
	e.Server = httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if e.down.Load() {
			rw.WriteHeader(http.StatusBadGateway)
			return
		}
		e.mu.Lock()
		defer e.mu.Unlock()
		e.count++
		for name, values := range r.URL.Query() {
			e.heard[name] = values[0]
		}
		_, _ = rw.Write([]byte("accepted\n"))
	}))
	t.Cleanup(e.Close)
	return e
}

func (e *ear) has(want map[string]string) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	for name, value := range want {
		if e.heard[name] != value {
			return false
		}
	}
	return true
}

func (e *ear) reports() int {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.count
}

// hears waits until the service knows all of this, and returns how long that took. With BEACON_SPEED it may take no longer than within.
func (e *ear) hears(t *testing.T, within time.Duration, want map[string]string) time.Duration {
	t.Helper()
	begin := time.Now()
	require.Eventually(t, func() bool { return e.has(want) }, within+time.Minute, 5*time.Millisecond, "%v, not %v", e.heard, want)
	took := time.Since(begin)
	if os.Getenv("BEACON_SPEED") != "" {
		assert.Less(t, took, within)
	}
	return took
}

// started is a reporter that runs until the test ends.
func started(t *testing.T, o Options, change func(*Reporter)) *Reporter {
	t.Helper()
	token := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(token, []byte("word\n"), 0o600))
	o.TokenFile, o.Door, o.StateFile = token, reach.Loopback(), filepath.Join(t.TempDir(), "state.json")
	if o.Every == 0 {
		o.Every = time.Hour
	}
	r := New(o)
	if change != nil {
		change(r)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { r.Run(ctx); close(done) }()
	t.Cleanup(func() { stop(); <-done })
	return r
}

// A changed address and a renewed prefix are reported within two seconds, though reports are an hour apart. What is temporary, tentative or being withdrawn is not reported.
func TestInterfaceChanges(t *testing.T) {
	if !inNamespace(t) {
		return
	}
	ip(t, "addr add 198.51.100.7/24 dev lo")
	ip(t, "addr add 2001:db8:1::7/64 dev lo nodad")
	e := newEar(t)
	from := From{Interface, "lo"}
	started(t, Options{Address: e.URL, V4: from, V6: from, Prefix: from, Bits: 64}, nil)
	e.hears(t, 5*time.Second, map[string]string{"v4": "198.51.100.7", "v6": "2001:db8:1::7", "prefix": "2001:db8:1::/64"})

	ip(t, "addr add 198.51.100.8/24 dev lo")
	ip(t, "addr del 198.51.100.7/24 dev lo") // with it goes its secondary
	ip(t, "addr add 198.51.100.9/24 dev lo")
	took := e.hears(t, 2*time.Second, map[string]string{"v4": "198.51.100.9"})

	ip(t, "addr add 2001:db8:2::7/64 dev lo nodad")
	ip(t, "addr change 2001:db8:1::7/64 dev lo preferred_lft 0 valid_lft 3600") // withdrawn (RFC 9096)
	renewed := e.hears(t, 2*time.Second, map[string]string{"v6": "2001:db8:2::7", "prefix": "2001:db8:2::/64", "v4": "198.51.100.9"})
	t.Logf("measured: another address is reported after %v, a renewed prefix after %v", took.Round(time.Millisecond), renewed.Round(time.Millisecond))

	before := e.reports()
	ip(t, "addr add 127.7.7.7/8 dev lo") // something else changes
	ip(t, "addr add 2001:db8:3::7/64 dev lo preferred_lft 0 nodad")
	time.Sleep(settleFor + 300*time.Millisecond) // a report would be there by now
	assert.Equal(t, before, e.reports(), "what is not reported has changed")
}

// A service that is away is tried again, and hears of what changed meanwhile; a machine that slept, or whose clock was stepped, reports at once.
func TestAwayAndAsleep(t *testing.T) {
	if !inNamespace(t) {
		return
	}
	ip(t, "addr add 198.51.100.7/24 dev lo")
	e := newEar(t)
	var ahead atomic.Int64
	r := started(t, Options{Address: e.URL, V4: From{Interface, "lo"}}, func(r *Reporter) {
		r.now, r.tick = func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }, 50*time.Millisecond
	})
	e.hears(t, 5*time.Second, map[string]string{"v4": "198.51.100.7"})
	for _, step := range []time.Duration{8 * time.Hour, -20 * time.Hour, 20 * time.Second} {
		before := e.reports()
		ahead.Add(int64(step))
		require.Eventually(t, func() bool { return e.reports() > before }, 2*time.Minute, 5*time.Millisecond, "a step of %v", step)
	}
	e.down.Store(true)
	ip(t, "addr add 198.51.100.8/24 dev lo")
	ip(t, "addr del 198.51.100.7/24 dev lo")
	ip(t, "addr add 198.51.100.9/24 dev lo")
	time.Sleep(time.Second)
	e.down.Store(false)
	e.hears(t, 15*time.Second, map[string]string{"v4": "198.51.100.9"})
	require.Eventually(t, func() bool {
		state, err := ReadState(r.StateFile)
		return err == nil && state.Said["v4"] == "198.51.100.9" && state.Reports(time.Now().Add(time.Duration(ahead.Load())))
	}, 2*time.Minute, 10*time.Millisecond)
}

// A family that is gone for good is reported as none, once; with BEACON_SOAK it waits for that.
func TestFamilyThatIsGone(t *testing.T) {
	if os.Getenv("BEACON_SOAK") == "" {
		t.Skip("it waits for half a minute; see make soak")
	}
	if !inNamespace(t) {
		return
	}
	ip(t, "addr add 198.51.100.7/24 dev lo")
	e := newEar(t)
	started(t, Options{Address: e.URL, V4: From{Interface, "lo"}}, nil)
	e.hears(t, 5*time.Second, map[string]string{"v4": "198.51.100.7"})
	ip(t, "addr del 198.51.100.7/24 dev lo")
	took := e.hears(t, reporter.Grace+2*time.Second, map[string]string{"v4": "none"})
	assert.Greater(t, took, reporter.Grace-time.Second)
}

// How much of the processor a reporter takes is measured over a while of rest.
func TestReporterRests(t *testing.T) {
	if !inNamespace(t) {
		return
	}
	e := newEar(t)
	started(t, Options{Address: e.URL, Any: true}, func(r *Reporter) { r.tick = 100 * time.Millisecond }) // 300 times as often as it is
	require.Eventually(t, func() bool { return e.reports() == 1 }, 2*time.Minute, 5*time.Millisecond)
	used := func() time.Duration {
		var u syscall.Rusage
		require.NoError(t, syscall.Getrusage(syscall.RUSAGE_SELF, &u))
		return time.Duration(u.Utime.Nano() + u.Stime.Nano())
	}
	before := used()
	time.Sleep(2 * time.Second)
	t.Logf("measured: %v of processor time in 2 s with 300 times as many looks at the clock", (used() - before).Round(time.Microsecond))
	assert.Equal(t, 1, e.reports())
}
