// Package e2e tests the running product: database, practice world and service as processes of their own, asked through
// the service's API and watched from outside.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/demo"
)

var program string

func TestMain(m *testing.M) {
	os.Getenv("BEACON_BEGAN") // the test cache does not see what is built here, and does see this
	dir, err := os.MkdirTemp("", "beacon-e2e")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "beacon")
	build := exec.Command("go", "build", "-o", program, "beacon/cmd/beacon")
	build.Stderr = os.Stderr
	if err := build.Run(); err != nil {
		panic(err)
	}
	code := m.Run()
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

func soak() bool { return os.Getenv("BEACON_SOAK") != "" }

// freePort returns a port below those that the system hands out by itself, which other sockets may hold on all addresses.
func freePort(t testing.TB) int {
	t.Helper()
	for range 100 {
		port := 12000 + rand.IntN(20000)
		if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			l.Close()
			return port
		}
	}
	t.Fatal("no port is free")
	return 0
}

// options are those of a stage with addresses of its own.
func options(t testing.TB, rate float64, settings string) demo.Options {
	return demo.Options{Dir: t.TempDir(), Listen: fmt.Sprintf("127.0.0.1:%d", freePort(t)), Net: 60 + rand.IntN(190),
		DNSPort: freePort(t), HTTPPort: freePort(t), Rate: rate, Program: program, Settings: settings, Fast: true}
}

// stage starts a demo. The test stays on its thread, to which the lives of the processes are tied.
func stage(t testing.TB, opt demo.Options) *demo.Stage {
	t.Helper()
	runtime.LockOSThread()
	s, err := demo.Start(context.Background(), opt)
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	return s
}

// settlesSooner has the scenario's domain held by caches for some minutes only: some seconds of the stage's clock.
func settlesSooner(t testing.TB, s *demo.Stage) {
	t.Helper()
	require.NoError(t, s.Control(context.Background(), "/delegation-ttl", map[string]any{"domain": demo.Domain, "ttl": 360}))
	require.NoError(t, s.Control(context.Background(), "/zone-ttl", map[string]any{"provider": "plover", "zone": demo.Domain, "ttl": 180}))
}

// asker talks to the API as the first user.
type asker struct {
	t     *testing.T
	stage *demo.Stage
	token string
	at    string // address of the instance that is asked; empty for the stage's own
}

func signedIn(t *testing.T, s *demo.Stage) *asker {
	t.Helper()
	token, err := s.SignIn(context.Background())
	require.NoError(t, err)
	return &asker{t: t, stage: s, token: token}
}

// awayFor is how long a read is made again where the database did not answer in time, as on a machine that stands still for a moment.
const awayFor = 10 * time.Second

// ask makes a request that must go well.
func (a *asker) ask(method, path string, body, out any) {
	a.t.Helper()
	status, text := a.try(method, path, body)
	for until := time.Now().Add(awayFor); method == http.MethodGet && status == http.StatusServiceUnavailable && time.Now().Before(until); {
		time.Sleep(100 * time.Millisecond)
		status, text = a.try(method, path, body)
	}
	require.Less(a.t, status, 300, "%s %s: %s", method, path, text)
	if out != nil {
		require.NoError(a.t, json.Unmarshal(text, out))
	}
}

func (a *asker) try(method, path string, body any) (int, []byte) {
	a.t.Helper()
	sent, err := json.Marshal(body)
	require.NoError(a.t, err)
	at := a.at
	if at == "" {
		at = a.stage.Address()
	}
	req, err := http.NewRequest(method, at+"/api/v1"+path, bytes.NewReader(sent))
	require.NoError(a.t, err)
	req.Header.Set("Authorization", "Bearer "+a.token)
	res, err := http.DefaultClient.Do(req)
	require.NoError(a.t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(a.t, err)
	return res.StatusCode, text
}

// done asks for an act, and waits until it is done.
func (a *asker) done(path string, body any) {
	a.t.Helper()
	var act struct {
		ID      int
		State   string
		Message string
	}
	a.ask("POST", path, body, &act)
	require.Eventually(a.t, func() bool {
		a.ask("GET", fmt.Sprintf("/acts/%d", act.ID), nil, &act)
		return act.State != "pending" && act.State != "running"
	}, 2*time.Minute, 20*time.Millisecond, "%s", path)
	require.Equal(a.t, "done", act.State, act.Message)
}

type syncState struct {
	ID                                       int
	State, Message                           string
	Total, Added, Changed, Removed, Requests int
}

// sync starts the sync of a zone with one placement, and gives its number.
func (a *asker) sync(zone string) int { return a.syncAt(zone, "") }

// syncAt starts the sync of one placement.
func (a *asker) syncAt(zone, account string) int { return a.syncAllowed(zone, account) }

// syncAllowed does the same with a yes to some guards.
func (a *asker) syncAllowed(zone, account string, guards ...string) int {
	a.t.Helper()
	var started struct{ Items []syncState }
	body := map[string]any{"account": account, "allow": guards}
	status, text := a.try("POST", "/zones/"+zone+"/syncs", body)
	for until := time.Now().Add(30 * time.Second); status == http.StatusConflict && bytes.Contains(text, []byte(" is still ")) && time.Now().Before(until); {
		time.Sleep(20 * time.Millisecond) // the service began one by itself
		status, text = a.try("POST", "/zones/"+zone+"/syncs", body)
	}
	require.Less(a.t, status, 300, "sync of %s: %s", zone, text)
	require.NoError(a.t, json.Unmarshal(text, &started))
	require.Len(a.t, started.Items, 1)
	return started.Items[0].ID
}

func (a *asker) syncState(id int) (s syncState) {
	a.t.Helper()
	a.ask("GET", fmt.Sprintf("/syncs/%d", id), nil, &s)
	return s
}

// synced waits until a sync has ended well.
func (a *asker) synced(id int) syncState {
	a.t.Helper()
	for deadline := time.Now().Add(90 * time.Second); ; time.Sleep(30 * time.Millisecond) {
		s := a.syncState(id)
		if s.State != "pending" && s.State != "running" && s.State != "retrying" {
			require.Equal(a.t, "done", s.State, s.Message)
			return s
		}
		require.True(a.t, time.Now().Before(deadline), "sync %d does not end: %+v", id, s)
	}
}

func (a *asker) define(text string) {
	a.t.Helper()
	a.ask("POST", "/definitions", map[string]any{"files": []map[string]string{{"name": "test.beacon.yaml", "text": text}}}, nil)
}

func TestTour(t *testing.T) {
	t.Parallel()
	opt := options(t, 60, "")
	runtime.LockOSThread()
	var out bytes.Buffer
	err := demo.Tour(context.Background(), opt, &out)
	require.NoError(t, err, out.String())
	for _, line := range strings.Split(out.String(), "\n") {
		if strings.HasPrefix(line, "──") || strings.HasPrefix(line, "   ") {
			continue
		}
		assert.LessOrEqual(t, len([]rune(line)), 100)
	}
}

// What was done is kept over a stop, a second start is quick, and a stop leaves no process and no listener.
func TestStopAndStartAgain(t *testing.T) {
	t.Parallel()
	opt := options(t, 60, "")
	cmd := exec.Command(program, "demo", "start", "--dir", opt.Dir, "--listen", opt.Listen, "--net", fmt.Sprint(opt.Net),
		"--dns-port", fmt.Sprint(opt.DNSPort), "--http-port", fmt.Sprint(opt.HTTPPort))
	runtime.LockOSThread()
	for round := range 2 {
		begun := time.Now()
		cmd = exec.Command(cmd.Path, cmd.Args[1:]...)
		cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		out, err := os.Create(filepath.Join(t.TempDir(), "out"))
		require.NoError(t, err)
		defer out.Close()
		cmd.Stdout, cmd.Stderr = out, out
		require.NoError(t, cmd.Start())
		ready := func() bool {
			res, err := http.Get("http://" + opt.Listen + "/readyz")
			if err != nil {
				return false
			}
			res.Body.Close()
			return res.StatusCode == http.StatusOK
		}
		require.Eventually(t, ready, 60*time.Second, 20*time.Millisecond)
		t.Logf("start %d: ready after %.2f s", round+1, time.Since(begun).Seconds())
		if round == 0 { // the scenario is loaded after the service is ready
			require.Eventually(t, func() bool { _, err := os.Stat(filepath.Join(opt.Dir, "loaded")); return err == nil }, 2*time.Minute, 20*time.Millisecond)
		}
		require.NoError(t, cmd.Process.Signal(os.Interrupt))
		said, _ := os.ReadFile(out.Name())
		require.NoError(t, cmd.Wait(), string(said))
		assert.Empty(t, processesNaming(t, opt.Dir), "processes that were left")
		assert.False(t, ready())
	}
}

// processesNaming lists running processes whose command line has text in it.
func processesNaming(t *testing.T, text string) (found []string) {
	t.Helper()
	lines, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	for _, path := range lines {
		if line, err := os.ReadFile(path); err == nil && bytes.Contains(line, []byte(text)) {
			found = append(found, strings.ReplaceAll(string(line), "\x00", " "))
		}
	}
	return found
}

// Each way in which a start can fail says what to do, and ends with an exit code that is not zero.
func TestStartsThatCannotBe(t *testing.T) {
	dir := t.TempDir()
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	hints := filepath.Join(dir, "roots.zone")
	require.NoError(t, os.WriteFile(hints, []byte(". 60 NS a.root.test.\na.root.test. 60 A 127.0.0.1\n"), 0o600))
	base := "dns: {root_hints: roots.zone}\ndatabase: {socket: nowhere, user: beacon, database: beacon}\n"
	for _, c := range []struct{ name, settings, says string }{
		{"no database", base + fmt.Sprintf("listen: 127.0.0.1:%d\n", freePort(t)), "does not answer"},
		{"port in use", base + "listen: " + taken.Addr().String() + "\n", "in use by another program"},
		{"unknown setting", base + "lissten: 127.0.0.1:1\n", `line 3: "lissten" is no setting`},
		{"no root hints", "database: {socket: x}\n", "dns.root_hints"},
		{"lease too short", base + "lease: 1s\n", "at least twice"},
		{"bad network", base + fmt.Sprintf("allowed_networks: [all]\nlisten: 127.0.0.1:%d\n", freePort(t)), "no network"},
	} {
		t.Run(c.name, func(t *testing.T) {
			path := filepath.Join(dir, "beacon.yaml")
			require.NoError(t, os.WriteFile(path, []byte(c.settings), 0o600))
			out, err := exec.Command(program, "serve", "--settings", path).CombinedOutput()
			assert.Error(t, err)
			assert.Contains(t, string(out), c.says)
			assert.Len(t, strings.Split(strings.TrimSpace(string(out)), "\n"), 1, "one clear line, no trace")
		})
	}
}
