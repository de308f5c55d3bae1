package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// zoneFolder writes files below a folder of their own and gives its path.
func zoneFolder(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	return dir
}

func TestConvertNeedsNoService(t *testing.T) {
	dir := zoneFolder(t, map[string]string{
		"in/main.zone":      "$TTL 1h\n@ SOA ns.x.test. h.x.test. 1 2 3 4 5\n@ NS ns.x.test.\nB A 192.0.2.10\n  A 192.0.2.9\n$INCLUDE sub/mail.zone\n",
		"in/sub/mail.zone":  "$INCLUDE more.zone\n",
		"in/sub/more.zone":  "@ 5m TXT \"a,b\"\n",
		"in/escape.zone":    "$INCLUDE ../secret\n$INCLUDE /etc/hostname\n$INCLUDE link\n",
		"secret":            "@ 60 A 192.0.2.1\n",
		"in/same.zone":      "b.a.example. 3600 A 192.0.2.9\nb 3600 A 192.0.2.10\n@ 300 TXT \"a,b\"\n@ 3600 IN NS NS.X.TEST.\n@ 3600 SOA ns.x.test. h.x.test. 1 2 3 4 5\n",
		"in/different.zone": "b 60 A 192.0.2.9\nb 60 A 192.0.2.10\n@ 300 TXT \"a,b\"\n",
	})
	require.NoError(t, os.Symlink("../secret", filepath.Join(dir, "in/link")))
	file := func(name string) string { return filepath.Join(dir, "in", name) }
	convert := func(name, as string) (string, string, int) {
		return beacon(t, &answers{}, "zone", "convert", file(name), "--origin", "a.example", "--as", as)
	}
	for as, want := range map[string]string{
		"canonical":  "a.example. 3600 IN NS ns.x.test.\na.example. 3600 IN SOA ns.x.test. h.x.test. 1 2 3 4 5\na.example. 300 IN TXT \"a,b\"\nb.a.example. 3600 IN A 192.0.2.9\nb.a.example. 3600 IN A 192.0.2.10\n",
		"csv":        "name,ttl,type,data\na.example.,3600,NS,ns.x.test.\na.example.,3600,SOA,ns.x.test. h.x.test. 1 2 3 4 5\na.example.,300,TXT,\"\"\"a,b\"\"\"\nb.a.example.,3600,A,192.0.2.9\nb.a.example.,3600,A,192.0.2.10\n",
		"definition": "zones:\n  a.example:\n    ttl: 3600\n    records: |\n      @ 300 TXT \"a,b\"\n      b     A   192.0.2.10\n      b     A   192.0.2.9\n",
	} {
		out, errOut, code := convert("main.zone", as)
		assert.Zero(t, code, errOut)
		assert.Equal(t, want, out, as)
	}
	out, _, _ := convert("main.zone", "json")
	assert.Contains(t, out, `"name": "b.a.example.",`)
	_, errOut, code := convert("escape.zone", "canonical")
	assert.Equal(t, ExitFailed, code)
	for _, line := range []string{"escape.zone:1:10: ../secret lies outside", "escape.zone:2:10: /etc/hostname lies outside", "escape.zone:3:10: link: path escapes"} {
		assert.Contains(t, errOut, line)
	}
	_, _, code = convert("main.zone", "else")
	assert.Equal(t, ExitMisuse, code)
	_, _, code = convert("nowhere.zone", "canonical")
	assert.Equal(t, ExitMisuse, code)

	compare := func(a, b string) (string, int) {
		out, _, code := beacon(t, &answers{}, "zone", "compare", file(a), file(b), "--origin", "a.example")
		return out, code
	}
	out, code = compare("main.zone", "same.zone")
	assert.Zero(t, code)
	assert.Equal(t, "0 added, 0 removed, 5 the same.\n", out)
	out, code = compare("main.zone", "different.zone")
	assert.Equal(t, ExitFailed, code)
	assert.Contains(t, out, "2 added, 4 removed, 1 the same.")
	_, code = compare("main.zone", "escape.zone")
	assert.Equal(t, ExitFailed, code)
}
