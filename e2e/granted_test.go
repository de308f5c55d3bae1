package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/wire"
)

// forNobody are the commands that ask the service for nothing that is granted: they need no service, sign in, or are about the token itself.
var forNobody = []string{"sign-in", "token list", "provider profile check", "apply --check", "zone check --file", "zone convert", "zone compare", "record types", "explain"}

// forViewers are those that a viewer may use, beside the ones for nobody: they look.
var forViewers = []string{"provider list", "provider kinds", "provider show", "provider zones", "registrar list", "registrar kinds", "registrar domains", "registrar find", "zone list", "zone show",
	"zone history", "zone check", "zone settings", "zone export", "record list", "draft show", "diff", "sync --dry-run", "drift", "search", "operation list", "today", "domains", "check",
	"delegate --dry-run", "handover forecast", "handover list", "ds show", "ds publish --dry-run", "ds remove --dry-run", "registrar unlock --dry-run", "act list", "act show", "hold show",
	"host list", "host show", "location list", "tsig-key list", "clock show", "channel list", "logbook", "zone retire --dry-run", "zone delete --dry-run"}

// missing are those that end before anything is refused: what they are about is not there, or not the caller's.
var missing = []string{"zone gather --dry-run", "handover show", "handover report", "handover next", "handover next --dry-run", "handover back --dry-run", "handover pause", "handover resume", "handover back", "handover abandon", "registrar lock", "registrar unlock", "token renew", "token revoke", "act show", "act cancel", "location show", "location set", "location add-uplink", "location remove-uplink", "location remove", "tsig-key remove", "record change", "record remove", "record fix"}

// Every command that talks to the service is refused to a token that may nothing of it, and says so; a viewer may look, and change nothing. A command
// without a row fails.
func TestCommandsNeedWhatTheyNeed(t *testing.T) {
	t.Parallel()
	s := stage(t, options(t, 60, ""))
	admin := signedIn(t, s)
	dir := t.TempDir()
	lines := commandLines(s, func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	})
	definition, err := os.ReadFile(filepath.Join(dir, "tides.beacon.yaml"))
	require.NoError(t, err)
	admin.ask("POST", "/definitions", map[string]any{"files": []map[string]string{{"name": "tides.beacon.yaml", "text": string(definition)}}}, nil)
	admin.ask("POST", "/hosts", map[string]any{"name": "gauge.tides.example", "v4": true}, nil)
	admin.ask("POST", "/operations", map[string]any{"search": map[string]string{"text": "www.tides.example"}, "ttl": 400}, nil)
	known := append(append(slices.Clone(forNobody), forViewers...), missing...)
	for _, row := range known {
		words := strings.Fields(row)
		words = slices.DeleteFunc(words, func(w string) bool { return strings.HasPrefix(w, "--") })
		require.True(t, slices.ContainsFunc(lines, func(line []string) bool { return slices.Equal(line[:min(len(line), len(words))], words) }), "%s is no command", row)
	}
	for _, c := range []struct {
		name, grant string
		viewer      bool
	}{{"nothing", "report", false}, {"viewer", "viewer", true}} {
		grant, err := access.ParseGrant(c.grant)
		require.NoError(t, err)
		var made wire.TokenMade
		admin.ask("POST", "/tokens", wire.NewToken{Name: c.name, Grants: []access.Grant{grant}}, &made)
		for _, line := range lines {
			path, args := line, []string{}
			if i := slices.Index(line, "/"); i >= 0 {
				path, args = line[:i], line[i+1:]
			}
			command := strings.Join(path, " ")
			cmd := exec.Command(program, append(append(slices.Clone(path), args...), "-o", "json")...)
			cmd.Env = append(os.Environ(), "BEACON_ADDRESS="+s.Address(), "BEACON_TOKEN="+made.Token, "BEACON_SESSIONS="+filepath.Join(dir, "none.json"))
			out, _ := cmd.CombinedOutput()
			refused := strings.Contains(string(out), "is not granted the action") || strings.Contains(string(out), "A token cannot")
			row := command
			for _, flag := range []string{"--dry-run", "--check", "--file"} {
				if slices.Contains(args, flag) {
					row += " " + flag
				}
			}
			if slices.Contains(missing, row) {
				assert.False(t, refused && slices.Contains(forViewers, row), "%s: %s", c.name, row)
				continue
			}
			may := slices.Contains(forNobody, row) || c.viewer && slices.Contains(forViewers, row)
			assert.Equal(t, !may, refused, "%s: %s: %s", c.name, row, out)
		}
	}
}
