package cli

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/change"
	"beacon/core/finding"
	"beacon/practice/practicetest"
	"beacon/profile/jq/jqtest"
	"beacon/provider"
	"beacon/wire"
)

func TestProviderCommands(t *testing.T) {
	strong := finding.Finding{Code: "credential-too-strong", Severity: finding.Warning, Subject: "heron-main", Message: "m", Remedy: "r"}
	caps := change.Caps{BatchSize: 20, Atomic: true, TTLFloor: 30, Texts: change.TextJoined, Attributes: []change.Attribute{{Name: "relay", About: "answers with a relay", Values: []string{"on", "off"}}}}
	account := wire.AccountView{Account: wire.Account{Name: "heron-main", Kind: "heron", Address: "https://api.heron.example"}, About: "sets", Rights: []string{"read records"}, Findings: []finding.Finding{strong}, Zones: 3, Troubled: 1, Caps: &caps}
	s := &answers{replies: map[string]any{
		"GET /kinds":                                     wire.Page[wire.Kind]{Items: []wire.Kind{{Name: "heron", Parts: []wire.CredentialPart{}}}},
		"GET /accounts":                                  wire.Page[wire.AccountView]{Items: []wire.AccountView{account}},
		"PUT /accounts/heron-main/credential":            wire.Tried{Seen: 3, Rights: []string{string(provider.ReadRecords), string(provider.Keys)}, Findings: []finding.Finding{strong}},
		"POST /accounts/heron-main/verifications":        wire.VerificationRun{ID: 7, State: "pending"},
		"GET /verifications/7":                           wire.VerificationRun{ID: 7, State: "done", Of: 3, Failed: 1, FinishedAt: new(time.Time), Cause: "it pages: the list goes in a circle", Checks: []wire.Verified{{Check: "it works", Outcome: "passed"}, {Check: "it pages", Outcome: "failed", Detail: "the list goes in a circle"}, {Check: "it marks", Outcome: "not applicable", Detail: "no marks"}}},
		"POST /zones/ferries.example/retirement-preview": wire.Retired{Account: "heron-main", Guards: []finding.Finding{{Code: "zone-still-delegated", Severity: finding.Error, Message: "The parent leads there.", Remedy: "Delegate."}}},
		"GET /placements": wire.Page[wire.PlacementView]{Items: []wire.PlacementView{{Account: "heron-main", PlacementLook: wire.PlacementLook{State: wire.InSync}},
			{Account: "curlew-ops", PlacementLook: wire.PlacementLook{State: wire.Drifted, Drifted: 2}}, {Account: "plover-old", PlacementLook: wire.PlacementLook{State: wire.Unreachable, Trouble: "no answer"}}}},
	}}
	for _, c := range []struct {
		args string
		code int
		says []string
		not  []string
	}{
		{"provider list", 0, []string{"heron-main", "3", "credential-too-strong"}, nil},
		{"provider show heron-main", 0, []string{"record sets, at most 20 in a request", "least TTL 30 s", "attribute relay (on or off)", "3 placed there, 1 of them to look at"}, nil},
		{"provider show nobody", 1, nil, nil},
		{"provider rotate heron-main --secret-file KEY", 0, []string{"Withdraw the old one", "manage credentials", "credential-too-strong"}, []string{"the-secret"}},
		{"provider verify heron-main --zone scratch.example --yes", 1, []string{"FAILED", "the list goes in a circle", "1 check passed, 1 failed, 1 not applicable", "Correct this first"}, nil},
		{"provider verify heron-main --zone scratch.example", ExitMisuse, nil, nil},
		{"drift", 0, []string{"2 sets changed elsewhere", "not reached: no answer", "1 of 3 placements in sync"}, []string{"heron-main"}},
		{"drift --all", 0, []string{"heron-main"}, nil},
		{"drift --adopt", ExitMisuse, nil, nil},
		{"drift ferries.example --adopt --revert", ExitMisuse, nil, nil},
		{"zone retire ferries.example --account heron-main --yes", 1, []string{"zone-still-delegated", "The parent leads there."}, []string{"is removed"}},
		{"sync ferries.example --all", ExitMisuse, nil, nil},
		{"sync --only [", ExitMisuse, nil, nil},
		{"sync --only nothing.test --yes", 1, nil, nil},
	} {
		t.Run(c.args, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "key")
			require.NoError(t, os.WriteFile(file, []byte("the-secret\n"), 0o600))
			out, errOut, code := beacon(t, s, strings.Fields(strings.ReplaceAll(c.args, "KEY", file))...)
			assert.Equal(t, c.code, code, "%s%s", out, errOut)
			for _, text := range c.says {
				assert.Contains(t, out, text)
			}
			for _, text := range c.not {
				assert.NotContains(t, out+errOut, text)
			}
			for _, line := range strings.Split(out, "\n") {
				assert.LessOrEqual(t, len([]rune(line)), 100, line)
			}
		})
	}
}

// Many zones are written side by side; those that somebody has to decide about are told, and the rest goes on.
func TestSyncMany(t *testing.T) {
	standing := func(zone, account string) wire.PlacementView {
		p := wire.PlacementView{Account: account}
		require.NoError(t, p.Zone.UnmarshalText([]byte(zone)))
		return p
	}
	s := &answers{replies: map[string]any{
		"GET /placements":               wire.Page[wire.PlacementView]{Items: []wire.PlacementView{standing("one.example.", "heron-main"), standing("two.example.", "heron-main"), standing("three.test.", "heron-main")}},
		"POST /zones/one.example/syncs": wire.Page[wire.SyncView]{Items: []wire.SyncView{{ID: 1}}},
		"POST /zones/two.example/syncs": problem{Status: 409, Detail: "Sync 7 is still running."},
		"GET /syncs/1":                  wire.SyncView{ID: 1, State: wire.SyncDone, Added: 4, Requests: 2},
	}}
	out, _, code := beacon(t, s, "sync", "--only", "*.example", "--yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "Sync 7 is still running.")
	assert.Contains(t, out, "1 of 2 placements done")
	assert.Contains(t, out, "4 sets written in 2 requests")
	out, _, code = beacon(t, s, "sync", "--only", "*.test", "--dry-run")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "three.test at heron-main")
}

// A profile is tried without a service: each request and answer is shown, and the credential is not.
func TestTryProfile(t *testing.T) {
	w := practicetest.Start(t, 1)
	run := func(args ...string) (string, string, int) {
		var o, e strings.Builder
		a := &app{in: strings.NewReader("desk:curlew-practice-key\n"), out: &o, err: &e, evaluator: jqtest.Command(t)}
		root := a.root()
		root.SetArgs(args)
		code := Run(root, &e)
		return o.String(), e.String(), code
	}
	out, errOut, code := run("provider", "try", "../demo/profiles/curlew.profile.yaml", "--url", w.URL("curlew"))
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "GET /api/zones?page=1")
	assert.Contains(t, out, "=> read records, write records, make and remove zones")
	assert.NotContains(t, out+errOut, "curlew-practice-key")
	_, errOut, code = run("provider", "try", "../demo/profiles/curlew.profile.yaml", "--url", w.URL("curlew"), "--zone", "none.example")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "has no zone none.example")

	stray := httptest.NewServer(http.NotFoundHandler())
	defer stray.Close()
	_, errOut, code = run("provider", "try", "../demo/profiles/heron.profile.yaml", "--url", stray.URL)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "404")
	bad := filepath.Join(t.TempDir(), "bad.profile.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("profile: x\n"), 0o600))
	out, _, code = run("provider", "profile", "check", bad, "../demo/profiles/plover.profile.yaml")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, `bad.profile.yaml:1:1: "credential" is missing in the profile.`)
	assert.Contains(t, out, "profile plover has no faults")
}
