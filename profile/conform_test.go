package profile_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/checklist"
	"beacon/core/dnsname"
	"beacon/demo/profiles"
	"beacon/outcall"
	"beacon/practice"
	"beacon/practice/practicetest"
	"beacon/profile"
	"beacon/profile/jq"
	"beacon/profile/jq/jqtest"
	"beacon/provider/conform"
	"beacon/provider/conform/conformtest"
	"beacon/reach"
)

// driver makes a driver of a practice provider's profile.
func driver(t testing.TB, pool *jq.Pool, kind, base, key string) *profile.Driver {
	t.Helper()
	all, faulty, err := profile.LoadAll(profiles.Files)
	require.NoError(t, err)
	require.Empty(t, faulty)
	return profile.New(all[kind], profile.NewRuntime(pool), client(base, key))
}

func client(base, key string) outcall.Client {
	return outcall.Client{HTTP: reach.Loopback().HTTPClient(5 * time.Second), Base: base, Account: "scratch", Secret: key}
}

func TestPracticeProvidersConform(t *testing.T) {
	t.Parallel()
	w, pool := practicetest.StartWith(t, practice.Options{Lag: 100 * time.Millisecond}), jqtest.Pool(t)
	for kind, keys := range map[string][3]string{ // the key, a wrong one, and the part of that which must not show
		"heron": {"heron-practice-key", "heron-wrong-key", "heron-wrong-key"}, "plover": {"plover-practice-key", "plover-wrong-key", "plover-wrong-key"},
		"curlew":   {"desk:curlew-practice-key", "desk:curlew-wrong-key", "curlew-wrong-key"},
		"whimbrel": {parts("client_id", "desk", "client_secret", "whimbrel-practice-secret"), parts("client_id", "desk", "client_secret", "whimbrel-wrong-secret"), "whimbrel-wrong-secret"},
		"lapwing":  {parts("key_id", "desk", "secret", "lapwing-practice-secret"), parts("key_id", "desk", "secret", "lapwing-wrong-secret"), "lapwing-wrong-secret"},
	} {
		t.Run(kind, func(t *testing.T) {
			conformtest.Passes(t, conform.Subject{Driver: driver(t, pool, kind, w.URL(kind), keys[0]), WrongKey: driver(t, pool, kind, w.URL(kind), keys[1]),
				Secret: keys[2], Zone: dnsname.MustParse("scratch.example")}, 30)
		})
	}
}

// A profile that is wrong about its interface fails the run, with words that lead to what is wrong in it.
func TestBrokenProfilesFail(t *testing.T) {
	t.Parallel()
	w, pool := practicetest.Start(t, 1), jqtest.Pool(t)
	keys := map[string]string{"heron": "heron-practice-key", "plover": "plover-practice-key", "curlew": "desk:curlew-practice-key"}
	for i, c := range []struct {
		name, kind, from, to string
		check, detail        string // of one that fails
	}{
		{"another header", "heron", "name: Heron-Key", "name: Heron-Token", "the scratch zone is made", "this key is not known here"},
		{"a larger batch than is taken", "heron", "batch: 20", "batch: 60", "a full batch is one request", "a change has at most 20 sets"},
		{"texts taken for data", "heron", "texts: .values,", "values: .values,", "a text of several strings", "put quotes around the text"},
		{"the list ends with its first page", "heron", "  next: .next_cursor\nwrite", "write", "a large zone is read to its end", "it should hold"},
		{"what goes is not said", "heron", "select(.after | not)", "select(false)", "a CNAME replaces addresses", "CNAME beside other data"},
		{"the attribute is not sent", "heron", ", relay: (.attributes.relay", ", relay_: (.attributes.relay", "named attributes are kept", `relay should be "on", and is "off"`},
		{"one name is read as another", "heron", "/names/{host}", "/names/two.{host}", "the records at one name", "is read as [], and should be"},
		{"failures are not seen", "curlew", "when: .ok == false", "when: false", "reading a zone that is not there says so", "should have been not found"},
		{"a receipt is taken for the deed", "curlew", "  receipt: .result.receipt\npoll:\n  request: GET /api/receipts/{receipt}\n  done: .result.state == \"done\"\n  failed: 'if .result.state == \"stuck\" then .result.problem else null end'", "",
			"two addresses of one name", "it should hold"},
		{"the ladder of TTLs is not known", "curlew", "ttl: {steps: [60, 300, 900, 3600, 14400, 86400]}", "ttl: {}", "a text of several strings", "the lifetime 600 is none of"},
		{"the wrong word of an answer", "curlew", "name: .owner,", "name: .ovner,", "two addresses of one name", "a record needs a name"},
		{"a change mark that never changes", "plover", "mark: $headers.etag", "mark: '\"v1\"'", "holds nothing but what is the provider's own", "the zone is another version now"},
		{"records of the provider's own are not expected", "plover", "prefills: true", "prefills: false", "holds nothing but what is the provider's own", "new zones are not said to have records"},
	} {
		t.Run(c.name, func(t *testing.T) {
			text, err := profiles.Files.ReadFile(c.kind + profile.Suffix)
			require.NoError(t, err)
			require.Contains(t, string(text), c.from)
			broken, faults := profile.Load("broken", []byte(strings.ReplaceAll(string(text), c.from, c.to)))
			require.Empty(t, faults)
			zone := dnsname.MustParse(fmt.Sprintf("broken-%d.example", i))
			results := conform.Run(context.Background(), conform.Subject{Driver: profile.New(broken, profile.NewRuntime(pool), client(w.URL(c.kind), keys[c.kind])), Zone: zone}, nil)
			var failed []string
			for _, r := range results {
				if r.Outcome == checklist.Failed {
					failed = append(failed, r.Check+": "+r.Detail)
				}
			}
			all := strings.Join(failed, "\n")
			for _, line := range failed {
				if strings.Contains(line, c.check) {
					assert.Contains(t, line, c.detail)
					return
				}
			}
			assert.Fail(t, "the check did not fail", "%s\n%s", c.check, all)
		})
	}
}
