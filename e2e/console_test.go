package e2e

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// The console's own tests (console/browser) run in a headless browser against a stage of their own. The service is
// ended and started for them from here.
func TestConsoleInABrowser(t *testing.T) {
	t.Parallel()
	runConsole(t)
}

// How fast the console is; it prints what it measured and never fails for being slow.
func BenchmarkConsole(b *testing.B) {
	for range b.N {
		runConsole(b, "CONSOLE_MEASURE=1")
	}
}

func runConsole(t testing.TB, env ...string) {
	t.Helper()
	s := stage(t, options(t, 60, ""))
	settlesSooner(t, s)
	orders, done := make(chan string), make(chan error)
	control := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		orders <- r.URL.Path
		if err := <-done; err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
		}
	}))
	defer control.Close()

	ctx, cancel := context.WithTimeout(context.Background(), 12*time.Minute)
	defer cancel()
	tests := exec.CommandContext(ctx, "node_modules/.bin/vitest", "run", "--config", "vitest.browser.config.ts")
	tests.Dir = "../console"
	tests.Env = append(os.Environ(), "CONSOLE_ADDRESS="+s.Address(), "CONSOLE_PASSWORD="+s.Password, "CONSOLE_CONTROL="+control.URL, "NO_COLOR=1")
	tests.Env = append(tests.Env, env...)
	tests.Stdout, tests.Stderr = os.Stdout, os.Stderr
	require.NoError(t, tests.Start())
	ended := make(chan error, 1)
	go func() { ended <- tests.Wait() }()
	for {
		select {
		case order := <-orders:
			var err error
			switch order {
			case "/kill":
				s.KillService()
			case "/start":
				err = s.StartService(ctx)
			default:
				err = fmt.Errorf("there is no order %s", order)
			}
			done <- err
		case err := <-ended:
			require.NoError(t, err, "the console's tests failed; what they say is above")
			return
		}
	}
}
