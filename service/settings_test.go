package service_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/service"
)

func readSettings(t *testing.T, text string) (service.Settings, string, error) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "beacon.yaml")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	s, err := service.ReadSettings(path)
	return s, filepath.Dir(path), err
}

func TestSettings(t *testing.T) {
	s, dir, err := readSettings(t, "dns: {root_hints: roots.zone}\ndatabase: {socket: /run/db.sock}\nchecks: {settling: 90s, settled: 2h}\nresolvers: [{name: office, address: \"192.0.2.53:53\"}]\n")
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:8053", s.Listen, "the default")
	assert.Equal(t, filepath.Join(dir, "roots.zone"), s.DNS.RootHints, "relative to the file")
	assert.Equal(t, filepath.Join(dir, "beacon.key"), s.KeyFile)
	assert.Equal(t, "/run/db.sock", s.Database.Socket)
	assert.EqualValues(t, 53, s.DNS.Port)
	assert.Equal(t, 90*time.Second, s.Checks.Settling)
	assert.Equal(t, "office", s.Resolvers[0].Name)
}

// Whatever is wrong with the settings is said with its name, all of it in one go, and on one line.
func TestWrongSettings(t *testing.T) {
	base := "dns: {root_hints: r}\ndatabase: {socket: s}\n"
	for name, c := range map[string]struct{ text, says string }{
		"listen":           {base + "listen: here\n", "listen:"},
		"no roots":         {"database: {socket: s}\n", "dns.root_hints"},
		"no database":      {"dns: {root_hints: r}\n", "database:"},
		"lease":            {base + "lease: 5s\nrequest_timeout: 4s\n", "at least twice"},
		"intervals":        {base + "checks: {settling: 0s, settled: 1h}\n", "checks:"},
		"workers":          {base + "workers: 0\n", "workers:"},
		"resolver":         {base + "resolvers: [{name: x, address: y}]\n", "resolvers:"},
		"open":             {base + "listen: 0.0.0.0:8053\n", "there is no TLS"},
		"half a TLS":       {base + "tls: {certificate: c.pem}\n", "both, certificate and key"},
		"plain token":      {base + "vantage_points: [{name: north, address: \"http://north.example\", token_file: t}]\n", "plain_text: [north.example]"},
		"plain hook":       {base + "notifications: {webhooks: [{name: pager, address: \"http://pager.example/in\", secret_file: t}]}\n", "plain_text: [pager.example]"},
		"unknown":          {base + "lisen: x\n", `"lisen" is no setting`},
		"not YAML":         {"a: [", "line 1"},
		"a wrong duration": {base + "lease: soon\n", "soon"},
	} {
		t.Run(name, func(t *testing.T) {
			_, _, err := readSettings(t, c.text)
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.says)
			assert.Contains(t, err.Error(), "beacon.yaml", "in which file")
			assert.NotContains(t, err.Error(), "\n")
		})
	}
	_, _, err := readSettings(t, "listen: here\nworkers: 0\n")
	for _, part := range []string{"listen:", "workers:", "dns.root_hints", "database:"} {
		assert.ErrorContains(t, err, part)
	}
	for _, fine := range []string{"listen: 0.0.0.0:8053\ntls: {certificate: c.pem, key: k.pem}\n", "listen: \":8053\"\ntrusted_proxies: [192.0.2.7/32]\n", "listen: \"[::1]:8053\"\n",
		"plain_text: [north.example]\nvantage_points: [{name: north, address: \"http://north.example\", token_file: t}]\n"} {
		_, _, err := readSettings(t, base+fine)
		assert.NoError(t, err)
	}
	_, err = service.ReadSettings(filepath.Join(t.TempDir(), "none.yaml"))
	assert.ErrorContains(t, err, "cannot be read")
}

// The example needs nothing but what it sets, and every default that it shows is the one that holds. A duration of 0 needs no unit.
func TestExampleSettings(t *testing.T) {
	minimal, dir, err := readSettings(t, service.ExampleSettings)
	require.NoError(t, err)
	assert.Equal(t, "/usr/share/dns/root.hints", minimal.DNS.RootHints)
	bare, bareDir, err := readSettings(t, "dns: {root_hints: /usr/share/dns/root.hints}\ndatabase: {socket: /run/mysqld/mysqld.sock, user: beacon, password: change-me, database: beacon}\n")
	require.NoError(t, err)
	bare.KeyFile = strings.Replace(bare.KeyFile, bareDir, dir, 1)
	assert.Equal(t, bare, minimal)

	shown := regexp.MustCompile(`(?m)^#(\S|  \S)`).ReplaceAllString(service.ExampleSettings, "$1")
	shown = strings.Replace(shown, "\ndns:\n  trust_anchors", "\n  trust_anchors", 1) // the section is written in two places
	before, rest, _ := strings.Cut(shown, "\ndatabase:")
	head, dns, _ := strings.Cut(rest, "\n  trust_anchors")
	dns, tail, _ := strings.Cut(dns, "\n\n")
	all, allDir, err := readSettings(t, before+"\n  trust_anchors"+dns+"\ndatabase:"+head+"\n\n"+tail)
	require.NoError(t, err)
	all.KeyFile = strings.Replace(all.KeyFile, allDir, dir, 1)
	want, got := fmt.Sprintf("%+v", minimal), fmt.Sprintf("%+v", all)
	assert.Equal(t, strings.ReplaceAll(want, "map[]", "[]"), strings.ReplaceAll(got, "map[]", "[]"))
	for _, key := range []string{"allowed_networks", "vantage_points", "websites", "notifications", "checks", "watch", "retention"} {
		assert.Contains(t, service.ExampleSettings, "#"+key+":")
	}

	zero, _, err := readSettings(t, "dns: {root_hints: r}\ndatabase: {socket: s}\nchecks: {brief: 0}\ndrift: {every: 0}\n")
	require.NoError(t, err)
	assert.Zero(t, zero.Checks.Brief)
	assert.Zero(t, zero.Drift.Every)
}

// Settings by their former names are refused with the new ones.
func TestFormerSettings(t *testing.T) {
	_, _, err := readSettings(t, "dns: {roots: r}\ndatabase: {socket: s}\nreach: [127.0.0.0/8]\ntell: {after: 1m}\n")
	for _, says := range []string{`"roots" is called "root_hints" now`, `"reach" is called "allowed_networks" now`, `"tell" is called "notifications" now`} {
		assert.ErrorContains(t, err, says)
	}
}
