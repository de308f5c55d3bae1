package e2e

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"beacon/cli"
	"beacon/demo"
)

// leaves returns the commands that do something, by their paths.
func leaves(c *cobra.Command) (paths []string) {
	for _, below := range c.Commands() {
		if below.HasSubCommands() {
			paths = append(paths, leaves(below)...)
		} else {
			_, path, _ := strings.Cut(below.CommandPath(), " ")
			paths = append(paths, path)
		}
	}
	return paths
}

// Every command prints one document with --output json, and the same with yaml; what goes wrong is a document of its own on the standard
// error.
func TestEveryCommandPrintsOneDocument(t *testing.T) {
	t.Parallel()
	s := stage(t, options(t, 60, ""))
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	lines := commandLines(s, file)
	// These talk to a user or another program all the time, or are tested elsewhere with their answers.
	apart := []string{"watch", "host report", "provider add", "registrar add", "provider rotate", "registrar rotate", "registrar remove", "provider verify", "registrar verify", "provider try", "user end-session"}
	covered := map[string]bool{}
	env := append(os.Environ(), "BEACON_ADDRESS="+s.Address(), "BEACON_SESSIONS="+filepath.Join(dir, "sessions.json"))
	for _, line := range lines {
		path, args := line, []string{}
		if i := slices.Index(line, "/"); i >= 0 {
			path, args = line[:i], line[i+1:]
		}
		covered[strings.Join(path, " ")] = true
		for _, form := range []string{"json", "yaml"} {
			cmd := exec.Command(program, append(append(slices.Clone(path), args...), "-o", form)...)
			cmd.Env = env
			var out, errOut bytes.Buffer
			cmd.Stdout, cmd.Stderr = &out, &errOut
			err := cmd.Run()
			var ended *exec.ExitError
			require.True(t, err == nil || errors.As(err, &ended), "%v: %v", line, err)
			shown := strings.Join(line, " ") + " -o " + form
			if strings.TrimSpace(out.String()) == "" {
				assertDocument(t, form, errOut.Bytes(), shown+", on the standard error")
				continue
			}
			assertDocument(t, form, out.Bytes(), shown)
		}
	}
	for _, path := range leaves(cli.New(strings.NewReader(""), io.Discard, io.Discard)) {
		assert.True(t, covered[path] || slices.Contains(apart, path), "%q is not tried here", path)
	}
}

// commandLines returns a line for each command that can be tried unattended, in an order that works: the first words are the command, up to "/".
func commandLines(s *demo.Stage, file func(name, text string) string) [][]string {
	const zone = "saltmarsh-ferries.example"
	definition := file("tides.beacon.yaml", "zones:\n  tides.example:\n    providers: [heron-main]\n    records: |\n      @ A 192.0.2.1\n      www A 192.0.2.1\n")
	zonefile := file("tides.zone", "$TTL 300\n@ A 192.0.2.1\nwww A 192.0.2.2\n")
	profile := filepath.Join(s.Dir, "profiles", "heron.profile.yaml")
	pasted := file("pasted.txt", "cam A 192.0.2.9\n")
	password, chosen := file("password", s.Password), file("chosen", "seagulls over the quay")
	return [][]string{
		{"sign-in", "/", "--password-file", password},
		{"user", "list"}, {"user", "add", "/", "petra"}, {"user", "grant", "/", "petra", "editor zones=tides.example"}, {"user", "remove", "/", "petra", "--yes"}, {"token", "add", "/", "tower", "--grant", "sweep"}, {"token", "list"}, {"token", "renew", "/", "tower"}, {"token", "revoke", "/", "tower", "--yes"}, {"user", "sessions"}, {"user", "password", "/", "--password-file", password, "--new-password-file", chosen},
		{"provider", "list"}, {"provider", "kinds"}, {"provider", "show", "/", "heron-main"}, {"provider", "zones", "/", "plover-old"},
		{"provider", "profile", "check", "/", profile}, {"registrar", "list"}, {"registrar", "kinds"}, {"registrar", "domains", "/", "gannet-main"}, {"registrar", "find", "/", zone},
		{"zone", "gather", "/", zone}, {"zone", "gather", "/", zone, "--accept", "--dry-run"},
		{"zone", "import", "/", filepath.Join(s.Dir, "saltmarsh-ferries.zone"), "--origin", zone, "--yes"},
		{"apply", "/", definition, "--yes"}, {"apply", "/", definition, "--check"}, {"apply", "/", definition, "--dry-run"},
		{"zone", "list"}, {"zone", "show", "/", "tides.example"}, {"zone", "history", "/", "tides.example"}, {"zone", "check", "/", "tides.example"},
		{"zone", "check", "/", "tides.example", "--file", zonefile, "--partial"}, {"zone", "settings", "/", "tides.example"}, {"zone", "export", "/", "tides.example"},
		{"zone", "convert", "/", zonefile, "--origin", "tides.example"}, {"zone", "compare", "/", zonefile, zonefile, "--origin", "tides.example"},
		{"zone", "generate", "/", "piers.example", "--new", "--providers", "heron-main"}, {"zone", "detach", "/", "tides.example", "--yes"},
		{"record", "list", "/", "tides.example"}, {"record", "types"}, {"record", "types", "/", "MX"}, {"record", "add", "/", "tides.example", "cam", "A", "192.0.2.3"},
		{"record", "change", "/", "tides.example", "cam", "A", "192.0.2.3", "--to", "192.0.2.4"}, {"record", "remove", "/", "tides.example", "cam", "A", "192.0.2.4"},
		{"record", "attribute", "/", "tides.example", "www", "A", "relay=on"}, {"record", "paste", "/", "tides.example", pasted}, {"draft", "show", "/", "tides.example"}, {"draft", "accept", "/", "tides.example", "--yes"},
		{"record", "set", "/", "tides.example", "relay", "A", "192.0.2.5"}, {"record", "add", "/", "tides.example", "cam2", "A", "192.0.2.3"},
		{"draft", "discard", "/", "tides.example", "--yes"}, {"zone", "restore", "/", "tides.example", "--revision", "1", "--yes"},
		{"diff", "/", "tides.example"}, {"sync", "/", "tides.example", "--dry-run"}, {"sync", "/", "tides.example", "--yes", "--allow", "names-would-stop"},
		{"sync", "/", "--all", "--yes"}, {"drift"}, {"drift", "/", "tides.example"},
		{"search", "/", "192.0.2.1"}, {"record", "replace", "/", "192.0.2.1", "--to", "192.0.2.11", "--dry-run"}, {"record", "replace", "/", "192.0.2.1", "--to", "192.0.2.11", "--yes"},
		{"operation", "list"}, {"operation", "sync", "/", "1"}, {"operation", "undo", "/", "1", "--yes"},
		{"record", "fix", "/", "tides.example", "mail-without-dmarc"},
		{"today"}, {"explain"}, {"explain", "/", "saved-not-active"}, {"domains"}, {"domains", "/", "--sort", "checked_at"}, {"check", "/", zone}, {"check", "/", "--all", "--brief"}, {"check", "/", "--all"}, {"delegate", "/", zone, "--nameservers", "reed-11.plover.test,reed-14.plover.test", "--dry-run"},
		{"handover", "forecast", "/", zone, "--nameservers", "reed-11.plover.test,reed-14.plover.test"},
		{"handover", "begin", "/", zone, "--to", "heron-main", "--dry-run"}, {"handover", "begin", "/", zone, "--to", "heron-main", "--yes"}, {"handover", "list"}, {"handover", "show", "/", zone}, {"handover", "report", "/", zone},
		{"handover", "next", "/", zone, "--dry-run"}, {"handover", "pause", "/", zone, "--yes"}, {"handover", "resume", "/", zone, "--yes"}, {"handover", "back", "/", zone, "--dry-run"}, {"handover", "abandon", "/", zone, "--yes"},
		{"ds", "show", "/", zone}, {"ds", "publish", "/", zone, "--dry-run"}, {"ds", "remove", "/", zone, "--dry-run"},
		{"registrar", "lock", "/", zone, "--yes"}, {"registrar", "unlock", "/", zone, "--dry-run"}, {"registrar", "unlock", "/", zone, "--yes"},
		{"act", "list"}, {"act", "show", "/", "1"}, {"act", "cancel", "/", "1"},
		{"hold", "show"}, {"hold", "start", "/", "--reason", "a test"}, {"hold", "release", "/", "--all", "--yes"},
		{"host", "add", "/", "gauge.tides.example"}, {"host", "list"}, {"host", "show", "/", "gauge.tides.example"},
		{"host", "set", "/", "gauge.tides.example", "--silence", "2h"}, {"tsig-key", "add", "/", "gauge.tides.example"}, {"tsig-key", "list"}, {"tsig-key", "remove", "/", "gauge.tides.example", "--yes"},
		{"location", "add", "/", "quay"}, {"location", "list"}, {"location", "show", "/", "quay"}, {"location", "set", "/", "quay", "--description", "by the harbour"},
		{"location", "add-uplink", "/", "quay", "lte"}, {"location", "remove-uplink", "/", "quay", "lte", "--yes"}, {"location", "remove", "/", "quay", "--yes"},
		{"clock", "show"}, {"clock", "skip", "/", "1m"}, {"channel", "list"}, {"channel", "test", "/", "nobody"}, {"logbook", "/", "--limit", "5"},
		{"zone", "retire", "/", "tides.example", "--account", "heron-main", "--dry-run"}, {"zone", "delete", "/", "tides.example", "--dry-run"},
		{"host", "remove", "/", "gauge.tides.example", "--yes"}, {"provider", "remove", "/", "curlew-ops", "--yes"},
		{"sign-out"},
	}
}

// assertDocument holds that a text is exactly one document.
func assertDocument(t *testing.T, form string, text []byte, what string) {
	t.Helper()
	var v any
	next := json.NewDecoder(bytes.NewReader(text)).Decode
	if form == "yaml" {
		next = yaml.NewDecoder(bytes.NewReader(text)).Decode
	}
	d := next
	if !assert.NoError(t, d(&v), "%s:\n%.300s", what, text) {
		return
	}
	if _, isText := v.(string); isText {
		assert.Fail(t, "no document but a text", "%s:\n%.300s", what, text)
	}
	assert.Equal(t, io.EOF, d(&v), "%s: more than one document:\n%.300s", what, text)
}
