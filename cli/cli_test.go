package cli

import (
	"bytes"
	"encoding/json"
	"io"
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
	"beacon/core/delegation"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/wire"
)

// answers is a service that gives prepared answers by method and path, and notes what it was sent.
type answers struct {
	replies map[string]any
	sent    []string
}

func (s *answers) ServeHTTP(rw http.ResponseWriter, r *http.Request) {
	if r.URL.Path == "/api/v1/events" { // nothing ever happens
		_, _ = io.WriteString(rw, ": begins after 0\n\n")
		rw.(http.Flusher).Flush()
		<-r.Context().Done()
		return
	}
	body, _ := io.ReadAll(r.Body)
	what := r.Method + " " + strings.TrimPrefix(r.URL.Path, "/api/v1")
	s.sent = append(s.sent, what+" "+string(body)+" "+r.URL.RawQuery)
	reply, ok := s.replies[what]
	switch reply := reply.(type) {
	case problem:
		rw.WriteHeader(reply.Status)
		_ = json.NewEncoder(rw).Encode(reply)
	default:
		if !ok {
			rw.WriteHeader(http.StatusNotFound)
			reply = problem{Status: 404, Detail: "nothing at " + what}
		}
		_ = json.NewEncoder(rw).Encode(reply)
	}
}

// beacon runs a command line against a service and gives what it printed and its exit code.
func beacon(t *testing.T, s *answers, args ...string) (out, errOut string, code int) {
	t.Helper()
	t.Setenv("BEACON_SESSIONS", filepath.Join(t.TempDir(), "sessions.json"))
	server := httptest.NewServer(s)
	defer server.Close()
	var o, e bytes.Buffer
	root := New(strings.NewReader(""), &o, &e)
	root.SetArgs(append(args, "--address", server.URL))
	code = Run(root, &e)
	return o.String(), e.String(), code
}

var (
	domain = dnsname.MustParse("saltmarsh-ferries.example")
	now    = time.Date(2030, 3, 1, 12, 0, 0, 0, time.UTC)
	by     = now.Add(25*time.Minute + 10*time.Second)
)

func report(v delegation.Verdict) delegation.Report {
	r := delegation.Report{Domain: domain, Verdict: v, CheckedAt: now}
	if v == delegation.Settling {
		r.SettlesBy = &by
		r.Resolvers = []delegation.View{{Name: "harbour", Sees: "old", Through: "reed-11.plover.test", Until: &by}}
	}
	return r
}

func checking(r delegation.Report) *answers {
	return &answers{replies: map[string]any{"POST /domains/saltmarsh-ferries.example/checks": r, "GET /domains/saltmarsh-ferries.example/report": r,
		"GET /clock": wire.ClockNow{World: now, Rate: 60}}}
}

func TestCheckExitCodes(t *testing.T) {
	for verdict, want := range map[delegation.Verdict]int{delegation.Settled: 0, delegation.NeedsAction: 1, delegation.ReadyToMove: 1, delegation.Undelegated: 1, delegation.Settling: 2, delegation.Unknown: 3} {
		out, _, code := beacon(t, checking(report(verdict)), "check", "saltmarsh-ferries.example")
		assert.Equal(t, want, code, verdict)
		assert.Contains(t, out, "saltmarsh-ferries.example")
		out, _, code = beacon(t, checking(report(verdict)), "check", "saltmarsh-ferries.example", "-o", "json")
		assert.Equal(t, want, code, verdict)
		var back map[string]any
		require.NoError(t, json.Unmarshal([]byte(out), &back), out)
		assert.Equal(t, string(verdict), back["verdict"])
		assert.Contains(t, back, "settles_by")
		assert.Contains(t, back, "findings")
	}
	_, errOut, code := beacon(t, &answers{}, "check", "saltmarsh-ferries.example")
	assert.Equal(t, ExitUnknown, code, "a check that could not be had tells nothing about the domain")
	assert.Contains(t, errOut, "nothing at")
}

func TestMisuse(t *testing.T) {
	for _, args := range [][]string{{"check"}, {"check", "a..b"}, {"chekc", "x"}, {"check", "x", "--nope"}, {"domains", "-o", "xml"}, {"zone", "import", "nofile", "--origin", "a.example"},
		{"zone", "import", "x"}, {"sync"}, {"apply", "nowhere"}, {"zone", "export", "a.example", "--as", "x"}, {"logbook", "--limit", "0"}} {
		out, errOut, code := beacon(t, &answers{replies: map[string]any{"GET /zones/a.example": wire.ZoneView{}, "GET /zones/a.example/records": wire.Page[record.Record]{}}}, args...)
		assert.Equal(t, ExitMisuse, code, "%v: %s%s", args, out, errOut)
		assert.NotEmpty(t, errOut, args)
	}
}

func TestUnreachableService(t *testing.T) {
	var o, e bytes.Buffer
	root := New(strings.NewReader(""), &o, &e)
	root.SetArgs([]string{"domains", "--address", "http://127.0.0.1:1"})
	assert.Equal(t, ExitFailed, Run(root, &e))
	assert.Contains(t, e.String(), "is it running")
}

func TestReportTellsWhoUntilWhen(t *testing.T) {
	out, _, _ := beacon(t, checking(report(delegation.Settling)), "check", "saltmarsh-ferries.example")
	assert.Contains(t, out, "SETTLING by 12:25:10 at the latest, in 25 min 10 s")
	assert.Contains(t, out, "simulated time, 60 times real time")
	assert.Regexp(t, `harbour +old +through reed-11.plover.test; expires by 12:25:10`, out)
	for _, line := range strings.Split(out, "\n") {
		assert.LessOrEqual(t, len([]rune(line)), width, line)
	}
}

func TestWatchEndsWhenSettled(t *testing.T) {
	out, _, code := beacon(t, checking(report(delegation.Settled)), "watch", "saltmarsh-ferries.example")
	assert.Zero(t, code)
	assert.Contains(t, out, "SETTLED")
	_, _, code = beacon(t, checking(report(delegation.Settling)), "watch", "saltmarsh-ferries.example", "--limit", "1ms")
	assert.Equal(t, ExitSettling, code)
}

func difference() wire.Page[wire.Difference] {
	www, _ := domain.Child("www")
	set := func(data ...record.Data) record.Set { return record.NewSet(www, record.A, 300, data...) }
	return wire.Page[wire.Difference]{Items: []wire.Difference{{Zone: domain, Account: "heron-main", Digest: "d1", Requests: 1, InSync: 4,
		Steps:   change.List{{Before: set("192.0.2.1"), After: set("192.0.2.2")}},
		Foreign: []diff.Item{{Key: record.Key{Name: domain, Type: record.TXT}, Kind: diff.Foreign, Live: record.NewSet(domain, record.TXT, 60, `"x"`), Why: "made elsewhere"}},
		Guards:  []finding.Finding{{Code: "names-would-stop", Severity: finding.Warning, Subject: "www", Message: "m", Remedy: "r"}}}}}
}

func TestSyncShowsAsksAndNamesTheList(t *testing.T) {
	s := &answers{replies: map[string]any{"GET /zones/saltmarsh-ferries.example/differences": difference(),
		"POST /zones/saltmarsh-ferries.example/syncs": wire.Page[wire.SyncView]{Items: []wire.SyncView{{ID: 7}}},
		"GET /syncs/7": wire.SyncView{ID: 7, Zone: domain, Account: "heron-main", State: "done", Changed: 1, Requests: 1}}}
	out, errOut, code := beacon(t, s, "sync", "saltmarsh-ferries.example")
	assert.Equal(t, ExitMisuse, code, "nobody can be asked here")
	assert.Contains(t, errOut, "--yes")
	assert.Contains(t, out, "0 to add, 1 to change, 0 to remove, in 1 request\n  4 sets in sync, 0 drifted, 0 in conflict, 1 foreign")
	assert.Len(t, s.sent, 1, "nothing was asked of the service but the differences")

	out, _, code = beacon(t, s, "sync", "saltmarsh-ferries.example", "--dry-run")
	assert.Zero(t, code)
	assert.Contains(t, out, "nothing was changed")

	s.sent = nil
	out, _, code = beacon(t, s, "sync", "saltmarsh-ferries.example", "--yes", "--allow", "names-would-stop")
	assert.Zero(t, code)
	assert.Contains(t, out, "Sync 7 of saltmarsh-ferries.example at heron-main: done.")
	assert.Contains(t, s.sent[1], `"expect":"d1"`, "the list that was shown is the one that is asked for")
	assert.Contains(t, s.sent[1], "names-would-stop")

	s.replies["GET /syncs/7"] = wire.SyncView{ID: 7, State: "blocked", Message: "A guard stopped this change; nothing was written."}
	_, _, code = beacon(t, s, "sync", "saltmarsh-ferries.example", "--yes")
	assert.Equal(t, ExitFailed, code)
}

func TestDefineCheckNeedsNoService(t *testing.T) {
	dir := t.TempDir()
	good := "zones:\n  a.example:\n    records: |\n      w A 192.0.2.1\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "good.beacon.yaml"), []byte(good), 0o600))
	out, _, code := beacon(t, &answers{}, "apply", dir, "--check")
	assert.Zero(t, code)
	assert.Contains(t, out, "1 zone, 1 record")
	bad := filepath.Join(dir, "sub", "bad.beacon.yaml")
	require.NoError(t, os.Mkdir(filepath.Dir(bad), 0o700))
	require.NoError(t, os.WriteFile(bad, []byte(strings.ReplaceAll(good, "192.0.2.1", "https://x/")), 0o600))
	out, errOut, code := beacon(t, &answers{}, "apply", dir, "--check")
	assert.Equal(t, ExitFailed, code)
	assert.Contains(t, out, bad+":4:11: ", "the fault with its place")
	assert.Contains(t, errOut, "2 faults", "both files define the same zone")
}

func TestProblemsAreShownWhole(t *testing.T) {
	s := &answers{replies: map[string]any{"POST /domains/saltmarsh-ferries.example/delegation-preview": problem{Status: 422, Detail: "The registrar was not asked.",
		Findings: []finding.Finding{{Code: "c", Severity: finding.Error, Subject: "ns1", Message: "It is misspelt.", Remedy: "Write ns2."}}}}}
	_, errOut, code := beacon(t, s, "delegate", "saltmarsh-ferries.example", "--yes")
	assert.Equal(t, ExitFailed, code)
	for _, part := range []string{"The registrar was not asked.", "It is misspelt.", "Write ns2."} {
		assert.Contains(t, errOut, part)
	}
}

func TestSignInIsRemembered(t *testing.T) {
	sessions := filepath.Join(t.TempDir(), "s", "sessions.json")
	t.Setenv("BEACON_SESSIONS", sessions)
	t.Setenv("BEACON_PASSWORD", "correct horse")
	var token string
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		token = r.Header.Get("Authorization")
		if r.URL.Path == "/api/v1/sessions" {
			_, _ = io.WriteString(rw, `{"token":"abs_x","expires":"2030-01-01T00:00:00Z"}`)
			return
		}
		_, _ = io.WriteString(rw, `{"items":[],"next":""}`)
	}))
	defer server.Close()
	run := func(args ...string) int {
		root := New(strings.NewReader(""), io.Discard, io.Discard)
		root.SetArgs(append(args, "--address", server.URL))
		return Run(root, io.Discard)
	}
	require.Zero(t, run("sign-in"))
	info, err := os.Stat(sessions)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "nobody else may read it")
	require.Zero(t, run("zone", "list"))
	assert.Equal(t, "Bearer abs_x", token)
	require.Zero(t, run("sign-out"))
	require.Zero(t, run("zone", "list"))
	assert.Empty(t, token)
}

func TestSpanAndWrap(t *testing.T) {
	for d, want := range map[time.Duration]string{-time.Second: "0 s", 42 * time.Second: "42 s", 61 * time.Second: "1 min 1 s",
		25 * time.Hour: "25 h 0 min", 50 * time.Hour: "2 days 2 h"} {
		assert.Equal(t, want, span(d))
	}
	assert.Equal(t, []string{"aa bb", "cc"}, wrap("aa bb cc", 5))
	assert.Equal(t, []string{"averylongword"}, wrap("averylongword", 5))
	assert.Equal(t, []string{`"a  b"`}, wrap(`"a  b"`, 20), "blanks in data are data")
}

// Findings that are one matter are shown as one, with whom else they concern.
func TestFindingsAlike(t *testing.T) {
	fails := func(name string) finding.Finding {
		return finding.Finding{Code: "resolver-fails", Severity: finding.Warning, Subject: name, Message: name + " returns no answer.", Remedy: "Ask its operator."}
	}
	other := fails("harbour")
	other.Remedy = "Another one."
	got := alike([]finding.Finding{fails("dinghy"), fails("harbour"), other, fails("lighthouse"), fails("lighthouse")})
	require.Len(t, got, 2)
	assert.Equal(t, []string{"harbour", "lighthouse"}, got[0].others)
	assert.Empty(t, got[1].others)
}

// A nameserver that was left and is still asked is an old one, also when the domain has settled and no move is under way.
func TestServersThatWereLeft(t *testing.T) {
	name := dnsname.MustParse
	servers := []delegation.Source{{Server: evidence.Server{Name: name("ns1.new.test")}}, {Server: evidence.Server{Name: name("ns1.old.test")}}, {Server: evidence.Server{Name: name("ns2.new.test")}}}
	r := delegation.Report{Servers: servers, Wanted: []dnsname.Name{name("ns1.new.test"), name("ns2.new.test")}, Parents: []delegation.Source{{Nameservers: []dnsname.Name{name("ns1.new.test")}}}}
	active, old, desired := sortServers(r)
	assert.Equal(t, []delegation.Source{servers[0]}, active)
	assert.Equal(t, []delegation.Source{servers[1]}, old)
	assert.Equal(t, []delegation.Source{servers[2]}, desired)
}
