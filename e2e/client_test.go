package e2e

import (
	"context"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A client that was generated from the OpenAPI document alone does what the tour does.
func TestGeneratedClientDoesTheTour(t *testing.T) {
	t.Parallel()
	s := stage(t, options(t, 60, ""))
	settlesSooner(t, s)
	console := filepath.Join("..", "console")
	run := func(name string, args ...string) string {
		ctx, cancel := context.WithTimeout(t.Context(), 90*time.Second)
		defer cancel()
		cmd := exec.CommandContext(ctx, name, args...)
		cmd.Dir = console
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	run("npx", "tsc", "-p", "client")
	out := run("node", "node_modules/.client/client/tour.js", s.Address(), s.Password, filepath.Join(s.Dir, "saltmarsh-ferries.zone"), filepath.Join(s.Dir, "saltmarsh-ferries.beacon.yaml"))
	assert.Contains(t, out, "every step held")
}
