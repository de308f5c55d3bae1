package e2e

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"beacon/demo"
)

// breakOff starts a demo that is stopped or killed a moment after it began to load the given step.
func breakOff(t *testing.T, opt demo.Options, name string, with syscall.Signal, after time.Duration) {
	t.Helper()
	cmd := exec.Command(program, "demo", "start", "--dir", opt.Dir, "--listen", opt.Listen, "--net", fmt.Sprint(opt.Net),
		"--dns-port", fmt.Sprint(opt.DNSPort), "--http-port", fmt.Sprint(opt.HTTPPort), "--rate", fmt.Sprint(opt.Rate))
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	cmd.Stderr = cmd.Stdout
	require.NoError(t, cmd.Start())
	seen, said := false, []string{}
	for lines := bufio.NewScanner(out); lines.Scan(); {
		said = append(said, lines.Text())
		if line := lines.Text(); !seen && (strings.Contains(line, name+" ...") || strings.Contains(line, "is up")) {
			seen = true
			time.Sleep(after) // any moment will do: it is drawn
			require.NoError(t, cmd.Process.Signal(with))
		}
	}
	_ = cmd.Wait()
	require.True(t, seen, "%s: %s", name, strings.Join(said, "\n"))
}

// A first start that is stopped or killed at any point is gone on with by the next, and all of the scenario is there in the end.
func TestLoadingGoesOnWhereItWasBrokenOff(t *testing.T) {
	t.Parallel()
	opt := options(t, 60, "")
	opt.Fleet = true
	steps := demo.Steps()
	times := 2
	if soak() {
		times = 2 * len(steps)
	}
	for i := range times {
		at := i / 2
		if !soak() {
			at = rand.IntN(len(steps)/times) + i*len(steps)/times
		}
		with := syscall.SIGKILL
		if i%2 == 1 {
			with = syscall.SIGINT
		}
		after := time.Duration(rand.IntN(600)) * time.Millisecond
		t.Logf("%v %v into %q", with, after, steps[at])
		breakOff(t, opt, steps[at], with, after)
	}
	a := signedIn(t, stage(t, opt))
	var list struct {
		Items []struct{ Name, Verdict, Description string }
	}
	a.ask("GET", "/domains?limit=100", nil, &list)
	states := map[string]int{}
	for _, d := range list.Items {
		states[d.Verdict]++
		if d.Name == "gull-island.example." {
			require.Equal(t, "Gull island", d.Description)
		}
	}
	require.GreaterOrEqual(t, len(list.Items), 39)
	for _, state := range []string{"ready-to-move", "settling", "settled", "needs-action", "unknown", "undelegated"} {
		require.NotZero(t, states[state], "%s: %v", state, states)
	}
	loaded, err := os.ReadFile(filepath.Join(opt.Dir, "loaded"))
	require.NoError(t, err)
	require.Len(t, strings.Fields(string(loaded)), len(steps))
}
