package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/record"
	"beacon/demo"
)

// frozenInstance is one of several instances on one database; it can be stopped for a while.
type frozenInstance struct {
	address string
	process *os.Process
}

// skewed builds the program with a clock that is so many seconds off: its standard library is compiled with another time.Now.
func skewed(t *testing.T, seconds int) string {
	t.Helper()
	if seconds == 0 {
		return program
	}
	dir := t.TempDir()
	root, err := exec.Command("go", "env", "GOROOT").Output()
	require.NoError(t, err)
	source := filepath.Join(strings.TrimSpace(string(root)), "src", "time", "time.go")
	text, err := os.ReadFile(source)
	require.NoError(t, err)
	const head = "func Now() Time {\n\tsec, nsec, mono := runtimeNow()\n" // its monotonic part stays as it is
	require.Contains(t, string(text), head)
	patched := strings.Replace(string(text), head, head+fmt.Sprintf("\tsec += %d\n", seconds), 1)
	replacement := filepath.Join(dir, "time.go")
	require.NoError(t, os.WriteFile(replacement, []byte(patched), 0o600))
	overlay, err := json.Marshal(map[string]map[string]string{"Replace": {source: replacement}})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "overlay.json"), overlay, 0o600))
	out := filepath.Join(dir, "beacon")
	build, err := exec.Command("go", "build", "-overlay", filepath.Join(dir, "overlay.json"), "-o", out, "beacon/cmd/beacon").CombinedOutput()
	require.NoError(t, err, string(build))
	return out
}

// another starts one more instance on the stage's database.
func another(t *testing.T, s *demo.Stage, i int, program string) frozenInstance {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(s.Dir, "beacon.yaml"))
	require.NoError(t, err)
	listen := fmt.Sprintf("127.0.0.1:%d", freePort(t))
	settings := filepath.Join(s.Dir, fmt.Sprintf("beacon-%d.yaml", i))
	require.NoError(t, os.WriteFile(settings, []byte(strings.Replace(string(text), s.Listen, listen, 1)), 0o600))
	cmd := exec.Command(program, "serve", "--settings", settings)
	out, err := os.Create(filepath.Join(s.Dir, fmt.Sprintf("service-%d.log", i)))
	require.NoError(t, err)
	defer out.Close()
	cmd.Stdout, cmd.Stderr, cmd.SysProcAttr = out, out, &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	one := frozenInstance{"http://" + listen, cmd.Process}
	ready := func() bool {
		res, err := http.Get(one.address + "/readyz")
		if err == nil {
			res.Body.Close()
		}
		return err == nil && res.StatusCode == http.StatusOK
	}
	for deadline := time.Now().Add(30 * time.Second); !ready(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			said, _ := os.ReadFile(out.Name())
			t.Fatalf("instance %d is not ready: %s", i, said)
		}
	}
	return one
}

// Instances are stopped past their leases at random moments, and go on as if nothing had been: no change is made twice, nothing is sent
// under an old number, the account's limit holds for all of them together, and every placement can be synced afterwards.
func TestFrozenInstances(t *testing.T) {
	t.Parallel()
	freezes, clocks := 4, []int{0, 0, 0}
	if soak() {
		freezes, clocks = 50, []int{0, 20, -20}
	}
	const perSecond = 10
	opt := options(t, 1, "")
	profiles := filepath.Join(opt.Dir, "profiles")
	require.NoError(t, os.MkdirAll(profiles, 0o700))
	profile, err := os.ReadFile("../demo/profiles/heron.profile.yaml")
	require.NoError(t, err)
	text := strings.Replace(strings.Replace(string(profile), "profile: heron", "profile: slow-heron", 1), "rate: 600 per second", fmt.Sprintf("rate: %d per second", perSecond), 1)
	require.NoError(t, os.WriteFile(filepath.Join(profiles, "slow-heron.profile.yaml"), []byte(text), 0o600))
	opt.Settings = fmt.Sprintf("lease: %s\nrequest_timeout: 500ms\ndrift: {every: 0s}\n", lease)
	s := stage(t, opt)
	a := signedIn(t, s)
	a.ask("POST", "/accounts", map[string]any{"name": "slow", "role": "provider", "kind": "slow-heron", "address": s.Site("heron"), "secret": "heron-practice-key"}, nil)
	s.KillService()
	var all []frozenInstance
	for i, seconds := range clocks {
		all = append(all, another(t, s, i, skewed(t, seconds)))
	}
	p := targetAt(t, s, "heron")
	db := database(t, s)
	seed := rand.Uint64()
	rng := rand.New(rand.NewPCG(seed, 0))
	frozen, atWork, most := 0, 0, 0
	for round := 0; frozen < freezes; round++ {
		a.at = all[0].address
		definition, want := wanted200(t, "slow", round)
		a.define(definition)
		before := 0
		if round > 0 {
			before = len(p.journal(t, s))
		}
		require.NoError(t, s.Control(context.Background(), "/faults", map[string]any{"site": p.site, "per_sec": 5 * perSecond, "delay_ms": 30}))
		id := a.syncAt("tides.example", "slow")
		for range 2 {
			time.Sleep(time.Duration(rng.IntN(1500)) * time.Millisecond)
			var working int
			one := all[rng.IntN(len(all))]
			require.NoError(t, one.process.Signal(syscall.SIGSTOP))
			require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM jobs WHERE kind = 'sync' AND subject = ? AND holder <> ''", id).Scan(&working))
			time.Sleep(lease + time.Duration(rng.IntN(int(lease))))
			require.NoError(t, one.process.Signal(syscall.SIGCONT))
			frozen++
			atWork += working
		}
		a.synced(id)
		most = max(most, busiest(t, s, p.site))
		live, _ := p.live(t)
		require.Equal(t, want.Records(), live.Filter(func(k record.Key) bool { return k.Name != killZone }).Records(), "seed %d, round %d", seed, round)
		changes := p.journal(t, s)[before:]
		slices.Sort(changes)
		require.Len(t, changes, 200, "seed %d, round %d: a set was changed twice, or not at all", seed, round)
		var turns []int
		rows, err := db.Query("SELECT turn FROM acts WHERE sync_id = ? ORDER BY id", id)
		require.NoError(t, err)
		for rows.Next() {
			var turn int
			require.NoError(t, rows.Scan(&turn))
			turns = append(turns, turn)
		}
		require.NoError(t, rows.Err())
		assert.True(t, slices.IsSorted(turns), "seed %d, round %d: a request under an old number: %v", seed, round, turns)
	}
	assert.LessOrEqual(t, most, perSecond)
	t.Logf("%d freezes, %d of them while the sync was worked on; at most %d requests in a second (seed %d)", frozen, atWork, most, seed)
}

// busiest returns how many requests a site of the practice world had in any second since it was told to count them.
func busiest(t *testing.T, s *demo.Stage, site string) int {
	t.Helper()
	res, err := http.Get(s.Site("control") + "/busiest/" + site)
	require.NoError(t, err)
	defer res.Body.Close()
	var b struct{ Most int }
	require.NoError(t, json.NewDecoder(res.Body).Decode(&b))
	return b.Most
}
