package cli

import (
	"encoding/json"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/practice/practicetest"
	"beacon/resolve"
)

// A check without a service: asked from here, judged here, nothing stored.
func TestCheckDirect(t *testing.T) {
	w := practicetest.Start(t, 1)
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	at := netip.MustParseAddrPort(w.DNSAddress("0.1"))
	here := []string{"check", "--direct", "--reach", "127.0.0.0/8", "--port", at.String()[strings.LastIndex(at.String(), ":")+1:], "--root-hints", file("root-hints", w.RootHints())}
	run := func(args ...string) (string, string, int) {
		return beacon(t, &answers{}, append(append([]string(nil), here...), args...)...)
	}
	out, errOut, code := run("plover.test", "--resolver", w.Resolvers()[0].Address, "-o", "json")
	require.Equal(t, ExitFine, code, errOut+out)
	var r delegation.Report
	require.NoError(t, json.Unmarshal([]byte(out), &r))
	assert.Equal(t, delegation.Settled, r.Verdict)
	assert.Contains(t, out, `"dnssec": "indeterminate"`)
	assert.Equal(t, "current", r.Resolvers[0].Sees)

	out, _, code = run("plover.test", "--expect", "reed-11.plover.test,reed-99.plover.test")
	assert.Equal(t, ExitFailed, code)
	assert.Contains(t, out, "reed-99.plover.test")
	out, _, code = run("nobody.example")
	assert.Equal(t, ExitFailed, code)
	assert.Contains(t, out, "not-registered")

	out, _, code = run("--from", file("names", "plover.test # ours\n\nheron.test\nnobody.example\ncurlew.test\n"), "--brief")
	assert.Equal(t, ExitFailed, code, "the gravest counts")
	assert.Equal(t, []string{"settled", "settled", "undelegated", "settled"}, firstWords(out))
	out, _, code = run("plover.test", "heron.test", "-o", "json")
	assert.Equal(t, ExitFine, code)
	var list []delegation.Report
	require.NoError(t, json.Unmarshal([]byte(out), &list))
	assert.Len(t, list, 2)

	out, _, code = run("--answers", "plover.test")
	assert.Equal(t, ExitFine, code)
	assert.Contains(t, out, "plover.test. SOA over udp")

	dark := []string{"check", "--direct", "--reach", "127.0.0.0/8", "--port", "9", "--root-hints", here[len(here)-1], "plover.test"}
	out, _, code = beacon(t, &answers{}, dark...)
	assert.Equal(t, ExitUnknown, code, "a check that failed says nothing of the domain")
	assert.Contains(t, out, "CHECK FAILED")

	// A line that is no name is shown, and the others are checked.
	out, errOut, code = run("--from", file("mixed", "plover.test\na..b\nheron.test\n"), "--brief", "-o", "json")
	require.NoError(t, json.Unmarshal([]byte(out), &list), errOut)
	assert.Len(t, list, 2)
	assert.Contains(t, errOut, "line 2: ")
	assert.Equal(t, ExitUnknown, code)
	for _, bad := range [][]string{{"--expect", "a..b", "plover.test"}, {"--resolver", "somewhere", "plover.test"}, {"--trust-anchors", dir, "plover.test"}, {"--from", dir + "/none"}, {"--all"}, {"."}, {}} {
		_, errOut, code := run(bad...)
		assert.Equal(t, ExitMisuse, code, "%v: %s", bad, errOut)
	}
	_, errOut, code = beacon(t, &answers{}, "check", "--expect", "a.example", "plover.test")
	assert.Equal(t, ExitMisuse, code)
	assert.Contains(t, errOut, "--direct")
}

func firstWords(text string) (words []string) {
	for line := range strings.Lines(text) {
		words = append(words, strings.Fields(line)[0])
	}
	return words
}

func TestReadResolver(t *testing.T) {
	for text, want := range map[string]resolve.Resolver{
		"192.0.2.53":                         {Address: "192.0.2.53:53"},
		"192.0.2.53:5353":                    {Address: "192.0.2.53:5353"},
		"2001:db8::53":                       {Address: "[2001:db8::53]:53"},
		"[2001:db8::53]:5353":                {Address: "[2001:db8::53]:5353"},
		"tcp://192.0.2.53":                   {Address: "192.0.2.53:53", Transport: resolve.OverTCP},
		"tls://192.0.2.53#resolver.example":  {Address: "192.0.2.53:853", Transport: resolve.OverTLS, TLSName: "resolver.example"},
		"https://resolver.example/dns-query": {Address: "https://resolver.example/dns-query", Transport: resolve.OverHTTPS},
	} {
		got, err := readResolver(text)
		require.NoError(t, err, text)
		want.Name = text
		assert.Equal(t, want, got)
	}
	for _, bad := range []string{"", "resolver.example", "tls://resolver.example"} {
		_, err := readResolver(bad)
		assert.Error(t, err, bad)
	}
}
