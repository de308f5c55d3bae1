package service_test

import (
	"os"
	"path/filepath"
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
	_, err = service.ReadSettings(filepath.Join(t.TempDir(), "none.yaml"))
	assert.ErrorContains(t, err, "cannot be read")
}
