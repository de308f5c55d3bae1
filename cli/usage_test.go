package cli

import (
	"bytes"
	"io"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/wire"
)

// Misuse is an error with a hint, never help with exit code 0 and never a text of the library.
func TestMisuseIsExplained(t *testing.T) {
	s := &answers{replies: map[string]any{}}
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"zone", "lst"}, `beacon: zone: no command "lst"; did you mean beacon zone list?`},
		{[]string{"zonne"}, `beacon: no command "zonne"; did you mean beacon zone?`},
		{[]string{"frobnicate"}, `beacon: no command "frobnicate"; see beacon --help`},
		{[]string{"zone", "show"}, "beacon: zone show: wrong number of arguments (0). Usage: beacon zone show ZONE"},
		{[]string{"zone", "show", "a.example", "b.example"}, "wrong number of arguments (2)"},
		{[]string{"zone", "list", "--all"}, "beacon: zone list: no option --all; see beacon zone list --help"},
		{[]string{"logbook", "--limit", "many"}, `--limit: "many" is not a valid value`},
		{[]string{"provider", "add", "heron-main"}, "missing: --kind, --url"},
		{[]string{"zone", "list", "-o", "xml"}, "--output is table, json or yaml"},
	} {
		out, errOut, code := beacon(t, s, c.args...)
		assert.Equal(t, ExitMisuse, code, "%v: %s", c.args, errOut)
		assert.Contains(t, errOut, c.says, "%v", c.args)
		assert.Empty(t, out, "%v", c.args)
	}
	for former, now := range map[string]string{"define": "beacon apply", "keep": "beacon host report"} {
		_, errOut, code := beacon(t, s, former)
		assert.Equal(t, ExitMisuse, code)
		assert.Contains(t, errOut, "it is called "+now+" now")
	}
	out, _, code := beacon(t, s, "zone")
	assert.Zero(t, code)
	assert.Contains(t, out, "Available Commands")
	out, _, code = beacon(t, s, "--version")
	assert.Zero(t, code)
	assert.Regexp(t, `^beacon \d+\.\d+`, out)
}

// Completion offers the names that the service has.
func TestNamesAreCompleted(t *testing.T) {
	s := &answers{replies: map[string]any{
		"GET /domains":  wire.Page[wire.DomainView]{Items: []wire.DomainView{{Name: domain}}},
		"GET /accounts": wire.Page[wire.AccountView]{Items: []wire.AccountView{{Account: wire.Account{Name: "heron-main"}}}},
	}}
	server := httptest.NewServer(s)
	defer server.Close()
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"zone", "show", "salt"}, "saltmarsh-ferries.example"},
		{[]string{"check", "salt"}, "saltmarsh-ferries.example"},
		{[]string{"provider", "zones", ""}, "heron-main"},
		{[]string{"sync", "saltmarsh-ferries.example", "--account", ""}, "heron-main"},
	} {
		var out bytes.Buffer
		root := New(strings.NewReader(""), &out, io.Discard)
		root.SetArgs(append([]string{"__complete", "--address", server.URL}, c.args...))
		assert.Zero(t, Run(root, io.Discard))
		assert.Contains(t, out.String(), c.says, "%v", c.args)
	}
}

// What an answer leaves out does not stay from the answer before it.
func TestAnswersReplaceEachOther(t *testing.T) {
	s := &answers{replies: map[string]any{"GET /acts/105": wire.Act{ID: 105, Retrying: &wire.Retrying{Problem: "operation op-1"}}}}
	server := httptest.NewServer(s)
	defer server.Close()
	t.Setenv("BEACON_SESSIONS", filepath.Join(t.TempDir(), "sessions.json"))
	a := &app{address: server.URL, out: io.Discard, err: io.Discard}
	var act wire.Act
	for _, waits := range []bool{true, false} {
		require.NoError(t, ask(a, wire.ShowAct, wire.None{}, &act, 105))
		assert.Equal(t, waits, act.Retrying != nil)
		s.replies["GET /acts/105"] = wire.Act{ID: 105}
	}
}
