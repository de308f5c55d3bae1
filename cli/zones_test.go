package cli

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/core/zonefile"
	"beacon/wire"
)

func records(t *testing.T, text string) []record.Record {
	t.Helper()
	z, faults := zonefile.Read(text, zonefile.Options{Origin: domain})
	require.Empty(t, faults)
	return z.Records
}

func TestImportShowsThenTakes(t *testing.T) {
	file := filepath.Join(t.TempDir(), "ferries.zone")
	require.NoError(t, os.WriteFile(file, []byte("@ 60 A 192.0.2.1\n"), 0o600))
	got := wire.Imported{Zone: domain, Added: records(t, "www 60 A 192.0.2.1\n"), Removed: records(t, "old 60 A 192.0.2.1\n"), Same: 3, Counts: wire.ImportCounts{Added: 1, Removed: 1},
		LeftOut:  []wire.LeftOut{{Record: records(t, "@ 60 NS ns.old.example.\n")[0], Why: "belongs to the provider"}},
		Revision: &wire.Revision{Number: 4}}
	s := &answers{replies: map[string]any{"POST /zones/saltmarsh-ferries.example/imports": got}}
	out, _, code := beacon(t, s, "zone", "import", file, "--origin", "saltmarsh-ferries.example", "--partial", "--yes")
	assert.Zero(t, code)
	assert.Regexp(t, `\+ www A +60 +192\.0\.2\.1`, out)
	assert.Regexp(t, `- old A`, out)
	assert.Contains(t, out, "left out: it belongs to the provider")
	assert.Contains(t, out, "1 records added, 1 removed, 3 as before, 1 left out.")
	assert.Contains(t, out, "revision 4")
	require.Len(t, s.sent, 2)
	assert.Contains(t, s.sent[0], "dry_run=true")
	assert.Contains(t, s.sent[1], "dry_run=false")

	s.sent = nil
	_, _, code = beacon(t, s, "zone", "import", file, "--origin", "saltmarsh-ferries.example", "--partial")
	assert.Equal(t, ExitMisuse, code, "nobody is there to agree")
	assert.Len(t, s.sent, 1, "nothing was taken")
}

func TestZoneViews(t *testing.T) {
	view := wire.ZoneView{Name: domain, Description: "Public site", Registrar: "gannet-main", Revision: &wire.Revision{Number: 2, Records: 14},
		Placements: []wire.ZonePlacement{{Account: "heron-main", Made: true, Nameservers: []dnsname.Name{dnsname.MustParse("quay-11.heron.test")},
			LastSync: &wire.SyncView{ID: 3, State: wire.SyncDone, Message: "Written."}}}}
	was, is := records(t, "www 60 A 192.0.2.1\n"), records(t, "www 60 A 192.0.2.2\n")
	draft := wire.Draft{Zone: domain, Tag: "3.2", Revision: 2, Added: is, Removed: was, Same: 1, Edits: []wire.DraftEdit{{Before: record.SetOf(was), After: record.SetOf(is), Author: "petra"}},
		Findings: []rules.Found{{Finding: finding.Finding{Code: "www-missing", Severity: finding.Notice, Message: "m", Remedy: "r"}, Fix: []rules.Edit{{After: record.SetOf(is)}}}}}
	replaced := wire.Replaced{Operation: &wire.Operation{ID: 4}, Records: 2, Zones: []wire.ReplacedZone{{Zone: domain, Steps: []record.SetChange{{Before: record.SetOf(was), After: record.SetOf(is)}}}}}
	moving := wire.Act{ID: 7, Kind: wire.ActDelegate, Subject: domain.String(), State: wire.ActDone, RequestedBy: "admin", Message: "The registrar has the nameservers active.",
		Requests: []wire.ActRequest{{ID: 8, Kind: "nameservers-saved", State: wire.ActDone}}}
	s := &answers{replies: map[string]any{
		"GET /zones":                                             wire.Page[wire.ZoneView]{Items: []wire.ZoneView{view}},
		"GET /zones/saltmarsh-ferries.example":                   view,
		"GET /zones/saltmarsh-ferries.example/records":           wire.Page[record.Record]{Items: records(t, "@ 60 A 192.0.2.1\nwww 60 A 192.0.2.1\n")},
		"GET /zones/saltmarsh-ferries.example/revisions":         wire.Page[wire.Revision]{Items: []wire.Revision{{Number: 2, Author: "admin", Source: "x.beacon.yaml"}}},
		"GET /zones/saltmarsh-ferries.example/comparison":        wire.Compared{From: 1, To: 2, Added: records(t, "@ 60 A 192.0.2.1\nwww 60 A 192.0.2.1\n"), Same: 3},
		"GET /zones/saltmarsh-ferries.example/history":           wire.Page[wire.NameChange]{Items: []wire.NameChange{{Revision: wire.Revision{Number: 2, Author: "admin"}, Added: records(t, "www 60 A 192.0.2.1\n")}}},
		"POST /zones/saltmarsh-ferries.example/restorations":     wire.Revision{Number: 5},
		"GET /zones/saltmarsh-ferries.example/findings":          wire.Page[rules.Found]{Items: []rules.Found{{Finding: finding.Finding{Code: "www-missing", Severity: finding.Notice, Message: "m", Remedy: "r"}}}},
		"GET /zones/saltmarsh-ferries.example/definition":        wire.ZoneDefinition{Text: "zones: {}"},
		"POST /zones/saltmarsh-ferries.example/detachment":       wire.ZoneDefinition{Text: "zones: {taken: 1}"},
		"POST /generated-definitions":                            wire.Generated{Text: "zones: {generated: 1}"},
		"GET /zones/saltmarsh-ferries.example/draft":             draft,
		"POST /zones/saltmarsh-ferries.example/draft/edits":      draft,
		"POST /zones/saltmarsh-ferries.example/draft/acceptance": wire.Revision{Number: 6},
		"DELETE /zones/saltmarsh-ferries.example/draft":          nil,
		"GET /records":                            wire.Page[wire.Hit]{Items: []wire.Hit{{Zone: domain, Record: records(t, "www 60 A 192.0.2.1\n")[0]}}},
		"GET /operations":                         wire.Page[wire.Operation]{Items: []wire.Operation{{ID: 4, What: "2 records in 1 zone", Author: "admin"}}},
		"POST /operations":                        replaced,
		"POST /operations/4/undo":                 replaced,
		"POST /operations/4/syncs":                wire.Page[wire.SyncView]{},
		"GET /accounts":                           wire.Page[wire.Account]{Items: []wire.Account{{Name: "heron-main", Kind: "heron", Address: "http://127.0.0.1"}}},
		"GET /accounts/heron-main/zones":          wire.Page[wire.RemoteZone]{Items: []wire.RemoteZone{{Name: domain, ID: "h-1", Nameservers: view.Placements[0].Nameservers}}},
		"GET /accounts/gannet-main/registrations": wire.Page[wire.Registration]{Items: []wire.Registration{{Name: domain, Saved: view.Placements[0].Nameservers}}},
		"GET /domains":                            wire.Page[wire.DomainView]{Items: []wire.DomainView{{Name: domain, Verdict: delegation.Settling, SettlesBy: &by, Providers: []string{"heron-main"}}}},
		"GET /clock":                              wire.ClockNow{World: now, Rate: 60},
		"GET /logbook":                            wire.Page[wire.Entry]{Items: []wire.Entry{{Actor: "admin", Action: "sync.done", Subject: "s", Detail: "d"}}},
		"POST /domains/saltmarsh-ferries.example/delegation-preview": wire.Delegated{Domain: domain, Registrar: "gannet-main", Steps: []string{"save", "activate"}, Next: "See it settle."},
		"POST /domains/saltmarsh-ferries.example/delegations":        moving,
		"GET /acts/7": moving,
		"GET /acts":   wire.Page[wire.Act]{Items: []wire.Act{moving}},
	}}
	for _, c := range []struct {
		args []string
		says []string
	}{
		{[]string{"zone", "list"}, []string{"saltmarsh-ferries.example", "revision 2, 14 records", "heron-main", "Public site"}},
		{[]string{"zone", "show", "saltmarsh-ferries.example"}, []string{"gannet-main", "quay-11.heron.test", "last sync 3: done. Written."}},
		{[]string{"zone", "history", "saltmarsh-ferries.example"}, []string{"admin", "x.beacon.yaml"}},
		{[]string{"zone", "history", "saltmarsh-ferries.example", "--from", "1", "--to", "2"}, []string{"+ www A", "192.0.2.1", "From revision 1 to 2: 2 added, 0 removed, 3 the same."}},
		{[]string{"zone", "history", "saltmarsh-ferries.example", "--of", "www"}, []string{"revision 2, ", "by admin", "+ www A"}},
		{[]string{"zone", "restore", "saltmarsh-ferries.example", "--revision", "1", "--yes"}, []string{"+ www A", "Saved as revision 5. Live DNS is unchanged; sync it: beacon sync"}},
		{[]string{"zone", "check", "saltmarsh-ferries.example"}, []string{"www-missing", "0 errors, 0 warnings, 1 notice."}},
		{[]string{"zone", "export", "saltmarsh-ferries.example"}, []string{"$ORIGIN saltmarsh-ferries.example.", "www A 192.0.2.1"}},
		{[]string{"zone", "export", "saltmarsh-ferries.example", "--as", "definition"}, []string{"zones: {}"}},
		{[]string{"zone", "detach", "saltmarsh-ferries.example", "--yes"}, []string{"zones: {taken: 1}"}},
		{[]string{"zone", "generate", "saltmarsh-ferries.example", "--new"}, []string{"zones: {generated: 1}"}},
		{[]string{"draft", "show", "saltmarsh-ferries.example"}, []string{"draft on revision 2", "- www A", "+ www A", "www-missing", "beacon draft accept saltmarsh-ferries.example"}},
		{[]string{"draft", "accept", "saltmarsh-ferries.example", "--yes"}, []string{"saved as revision 6", "beacon sync saltmarsh-ferries.example"}},
		{[]string{"draft", "discard", "saltmarsh-ferries.example", "--yes"}, []string{"The desired records of saltmarsh-ferries.example stay as they are."}},
		{[]string{"record", "list", "saltmarsh-ferries.example", "--name", "www"}, []string{"www", "192.0.2.1"}},
		{[]string{"record", "types"}, []string{"CAA", "Which authorities may issue certificates"}},
		{[]string{"record", "types", "srv"}, []string{"priority", "weight", "port", "target", "RFC 2782"}},
		{[]string{"record", "add", "saltmarsh-ferries.example", "cam", "A", "192.0.2.9"}, []string{"draft on revision 2"}},
		{[]string{"record", "add", "saltmarsh-ferries.example", "@", "MX", "--field", "preference=10", "--field", "host=mx1.post.example.", "--ttl", "5m"}, []string{"draft on revision 2"}},
		{[]string{"record", "change", "saltmarsh-ferries.example", "www", "A", "--to", "192.0.2.7"}, []string{"draft on revision 2"}},
		{[]string{"record", "remove", "saltmarsh-ferries.example", "www.saltmarsh-ferries.example", "A"}, []string{"draft on revision 2"}},
		{[]string{"record", "fix", "saltmarsh-ferries.example", "www-missing"}, []string{"draft on revision 2"}},
		{[]string{"record", "replace", "192.0.2.1", "--to", "192.0.2.2", "--yes"}, []string{"- www A", "+ www A", "2 records in 1 zone.", "Bulk change 4: 2 records changed in 1 zone. Undo it: beacon operation undo 4"}},
		{[]string{"search", "192.0.2.1"}, []string{"saltmarsh-ferries.example", "www", "192.0.2.1"}},
		{[]string{"operation", "list"}, []string{"4", "2 records in 1 zone", "admin"}},
		{[]string{"operation", "undo", "4", "--yes", "--sync"}, []string{"Bulk change 4"}},
		{[]string{"apply", "--schema"}, []string{"Definition of zones"}},
		{[]string{"provider", "list"}, []string{"heron-main", "http://127.0.0.1"}},
		{[]string{"provider", "zones", "heron-main"}, []string{"h-1", "quay-11.heron.test"}},
		{[]string{"registrar", "domains", "gannet-main"}, []string{"active", "none", "saved only", "quay-11.heron.test"}},
		{[]string{"domains"}, []string{"settling until 12:25:10"}},
		{[]string{"logbook"}, []string{"admin", "sync.done"}},
		{[]string{"delegate", "saltmarsh-ferries.example", "--dry-run"}, []string{"save, then activate", "See it settle."}},
		{[]string{"delegate", "saltmarsh-ferries.example", "--yes"}, []string{"Act 7: delegate saltmarsh-ferries.example: done.", "request 8: nameservers-saved, done"}},
		{[]string{"act", "list"}, []string{"delegate", "saltmarsh-ferries.example", "done", "admin"}},
		{[]string{"act", "show", "7"}, []string{"The registrar has the nameservers active."}},
		{[]string{"zone", "list", "-o", "yaml"}, []string{"name: saltmarsh-ferries.example.", "number: 2"}},
	} {
		out, errOut, code := beacon(t, s, c.args...)
		assert.Zero(t, code, "%v: %s", c.args, errOut)
		for _, part := range c.says {
			assert.Contains(t, out, part, "%v", c.args)
		}
	}
}

func TestAccountsTakeSecretsFromElsewhere(t *testing.T) {
	key := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(key, []byte("s3cret\n"), 0o600))
	s := &answers{replies: map[string]any{"POST /accounts": map[string]any{"name": "heron-main", "seen": 2},
		"GET /kinds": wire.Page[wire.Kind]{Items: []wire.Kind{{Name: "heron", Parts: []wire.CredentialPart{}}, {Name: "avocet", Parts: []wire.CredentialPart{{Name: "user"}, {Name: "password"}}}}}}}
	args := []string{"provider", "add", "heron-main", "--kind", "heron", "--url", "http://127.0.0.1"}
	out, _, code := beacon(t, s, append(args, "--secret-file", key)...)
	assert.Zero(t, code)
	assert.Contains(t, out, "sees 2 zones")
	assert.Contains(t, s.sent[1], `"secret":"s3cret"`)
	assert.NotContains(t, out, "s3cret")
	t.Setenv("BEACON_SECRET", "from-environment")
	_, _, code = beacon(t, s, args...)
	assert.Zero(t, code)
	assert.Contains(t, s.sent[3], "from-environment")
	t.Setenv("BEACON_SECRET", "")
	_, errOut, code := beacon(t, s, args...)
	assert.Equal(t, ExitMisuse, code)
	assert.Contains(t, errOut, "BEACON_SECRET")

	args = []string{"provider", "add", "avocet-main", "--kind", "avocet", "--url", "http://127.0.0.1", "--part-file", "password=" + key}
	t.Setenv("BEACON_SECRET_USER", "harbour-desk")
	_, errOut, code = beacon(t, s, args...)
	assert.Zero(t, code, errOut)
	assert.Contains(t, s.sent[len(s.sent)-1], `"parts":{"password":"s3cret","user":"harbour-desk"}`)
	_, errOut, code = beacon(t, s, append(args, "--part-file", "colour="+key)...)
	assert.Equal(t, ExitMisuse, code)
	assert.Contains(t, errOut, `no part "colour"`)
}

// A stream that breaks is taken up again after the last line that was shown.
func TestLogbookFollowsOverBreaks(t *testing.T) {
	var asked []string
	ctx, stop := context.WithCancel(context.Background())
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		from, _ := strconv.Atoi(r.Header.Get("Last-Event-ID"))
		if asked = append(asked, r.Header.Get("Last-Event-ID")); from == 0 {
			from = 6
		}
		fmt.Fprintf(rw, ": begins after %d\n\nid: %d\nevent: a.b\ndata: {\"seq\":%d,\"subject\":\"s\",\"detail\":\"line %d\"}\n\n", from, from+1, from+1, from+1)
		if len(asked) == 3 {
			stop()
		}
	}))
	defer server.Close()
	var out bytes.Buffer
	a := &app{address: server.URL, output: "table", out: &out, err: &out}
	require.NoError(t, a.followEvents(ctx, false, func() {}, a.showEvent))
	assert.Equal(t, []string{"", "7", "8"}, asked)
	for _, line := range []string{"line 7", "line 8"} {
		assert.Equal(t, 1, strings.Count(out.String(), line), line)
	}

	refusing := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) {
		rw.WriteHeader(http.StatusUnauthorized)
		_, _ = rw.Write([]byte(`{"status":401,"detail":"Sign in first."}`))
	}))
	defer refusing.Close()
	a.address = refusing.URL
	assert.ErrorContains(t, a.followEvents(context.Background(), false, func() {}, a.showEvent), "Sign in first.")
}

func TestDefineShowsTakesAndSyncs(t *testing.T) {
	file := filepath.Join(t.TempDir(), "f.beacon.yaml")
	require.NoError(t, os.WriteFile(file, []byte("zones: {}\n"), 0o600))
	defined := wire.Applied{Zone: domain, New: true, Changed: true, Syncs: []wire.SyncView{{ID: 7, Account: "heron-main"}}, Added: records(t, "www 60 A 192.0.2.1\n"), Providers: []string{"heron-main"}, NewProviders: []string{"heron-main"},
		Registrar: "gannet-main", Revision: &wire.Revision{Number: 1}}
	s := &answers{replies: map[string]any{"POST /definitions": wire.Page[wire.Applied]{Items: []wire.Applied{defined}},
		"GET /zones/saltmarsh-ferries.example/differences": difference(),
		"POST /zones/saltmarsh-ferries.example/syncs":      wire.Page[wire.SyncView]{Items: []wire.SyncView{{ID: 7}}},
		"GET /syncs/7": wire.SyncView{ID: 7, Zone: domain, Account: "heron-main", State: wire.SyncDone}}}
	out, _, code := beacon(t, s, "apply", file, "--dry-run")
	assert.Zero(t, code)
	assert.Contains(t, out, "(new: heron-main)")
	assert.Regexp(t, `\+ www A`, out)
	assert.Len(t, s.sent, 1)
	out, _, code = beacon(t, s, "apply", file, "--yes")
	assert.Zero(t, code)
	assert.Contains(t, out, "saved as revision 1")
	assert.Contains(t, out, "Sync 7 of saltmarsh-ferries.example at heron-main: done.")
}

func TestRecordMistakesAreSaid(t *testing.T) {
	s := &answers{replies: map[string]any{
		"GET /zones/saltmarsh-ferries.example/records": wire.Page[record.Record]{Items: records(t, "www 60 A 192.0.2.1\nwww 60 A 192.0.2.2\n")},
		"GET /zones/saltmarsh-ferries.example/draft":   wire.Draft{Zone: domain, Tag: "3.2"}}}
	for _, c := range []struct {
		args []string
		says string
		code int
	}{
		{[]string{"record", "add", "saltmarsh-ferries.example", "www", "A", "https://x"}, "write only the IP address", ExitMisuse},
		{[]string{"record", "add", "saltmarsh-ferries.example", "www", "MX", "--field", "preference=x"}, `preference: "x" is no number`, ExitMisuse},
		{[]string{"record", "add", "saltmarsh-ferries.example", "www", "MX", "--field", "preference"}, "preference=10", ExitMisuse},
		{[]string{"record", "add", "saltmarsh-ferries.example", "www", "WORD", "x"}, "no record type", ExitMisuse},
		{[]string{"record", "remove", "saltmarsh-ferries.example", "www", "A"}, "www.saltmarsh-ferries.example has 2 A records; say which", ExitMisuse},
		{[]string{"record", "remove", "saltmarsh-ferries.example", "www", "A", "192.0.2.9"}, "has no 192.0.2.9; it has", ExitFailed},
		{[]string{"record", "change", "saltmarsh-ferries.example", "www", "A", "192.0.2.1"}, "name the change", ExitMisuse},
		{[]string{"record", "fix", "saltmarsh-ferries.example", "ttl-zero"}, "nothing of the kind ttl-zero is found", ExitFailed},
		{[]string{"apply"}, "name definition files", ExitMisuse},
	} {
		_, errOut, code := beacon(t, s, c.args...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, errOut)
		assert.Contains(t, errOut, c.says, "%v", c.args)
	}
}
