package command

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/reach"
	"beacon/reporter"
)

// typed runs the command as it is typed, against a service that answers with a line, and returns what it prints and its exit code.
func typed(t *testing.T, service string, args ...string) (said string, code int) {
	t.Helper()
	var out bytes.Buffer
	c := New(Program{Name: "beacon-report", Door: reach.Loopback(), Address: func() string { return service }, Secured: func() error { return nil },
		Printf: func(format string, args ...any) { fmt.Fprintf(&out, format, args...) },
		Show:   func(_ any, human func()) error { human(); return nil }})
	c.SilenceErrors, c.SilenceUsage = true, true
	c.SetArgs(args)
	switch err := c.Execute().(type) {
	case nil:
	case Exit:
		code = err.Code
		fmt.Fprint(&out, err.Message)
	default:
		t.Fatal(err)
	}
	return out.String(), code
}

// answering is a service that answers every report alike, and keeps what it was sent.
func answering(t *testing.T, status int, line string) (address string, heard *[]string) {
	heard = new([]string)
	s := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		*heard = append(*heard, r.URL.RawQuery)
		rw.WriteHeader(status)
		fmt.Fprintln(rw, line)
	}))
	t.Cleanup(s.Close)
	return s.URL, heard
}

func TestCommand(t *testing.T) {
	dir := t.TempDir()
	token := filepath.Join(dir, "token")
	require.NoError(t, os.WriteFile(token, []byte("word\n"), 0o600))
	good, heard := answering(t, 200, "accepted 198.51.100.7")
	refuses, _ := answering(t, 422, "refused: 10.0.0.7 is private")
	silent := "http://127.0.0.1:1"
	for _, c := range []struct {
		service, args string
		code          int
		says          string
	}{
		{good, "--once --token-file TOKEN --v4 198.51.100.7 --v6 2001:db8::7", 0, "accepted 198.51.100.7"},
		{good, "--once --token-file TOKEN", 0, "accepted"},
		{refuses, "--once --token-file TOKEN --v4 10.0.0.7", 1, "refused: 10.0.0.7 is private"},
		{silent, "--once --token-file TOKEN", 3, "does not answer"},
		{good, "--once", 64, "--token-file"},
		{good, "--once --token-file TOKEN --v4 nonsense", 64, "is no source of an address"},
		{good, "--once --token-file TOKEN --v6 router", 64, "routers say their IPv4 address only"},
		{good, "--once --token-file TOKEN --prefix router", 64, "prefixes come from an interface"},
		{good, "--once --token-file TOKEN --v4 interface:nowhere", 3, "there is none of this name"},
		{good, "--token-file TOKEN --every 1s", 64, "--every is at least 10s"},
		{silent, "--dry-run --v4 198.51.100.7", 0, "Nothing was reported."},
		{good, "--status --state-file DIR/none", 3, "no reporter has run"},
		{good, "--install --token-file TOKEN --host cam.pier.example --v6 interface:eth0 --unit-folder DIR", 0, "systemctl enable --now beacon-report-cam.pier.example"},
		{good, "--install --token-file TOKEN --host cam.pier.example --v6 interface:eth0 --unit-folder DIR", 0, "systemctl"},
		{good, "--install --token-file TOKEN --host cam.pier.example --v6 interface:eth1 --unit-folder DIR", 1, "is there already and differs"},
	} {
		said, code := typed(t, c.service, strings.Fields(strings.NewReplacer("TOKEN", token, "DIR", dir).Replace(c.args))...)
		assert.Equal(t, c.code, code, "%s: %s", c.args, said)
		assert.Contains(t, said, c.says, c.args)
	}
	assert.Equal(t, []string{"v4=198.51.100.7", "v6=2001%3Adb8%3A%3A7", ""}, *heard, "each family by itself; nothing else was sent")
	unit, err := os.ReadFile(filepath.Join(dir, "beacon-report-cam.pier.example.service"))
	require.NoError(t, err)
	assert.Contains(t, string(unit), "LoadCredential=token:"+token)
	assert.Contains(t, string(unit), "--v6 interface:eth0 --every 5m0s --token-file %d/token\n")
	assert.NotContains(t, string(unit), "word", "the token itself")
}

// The status says whether the reporter runs, and reports in time.
func TestStatus(t *testing.T) {
	path := filepath.Join(t.TempDir(), "state.json")
	for _, c := range []struct {
		state reporter.State
		code  int
		says  string
	}{
		{reporter.State{PID: os.Getpid(), Every: 5 * time.Minute, Reached: time.Now().Add(-time.Minute), Tried: time.Now().Add(-time.Minute), Answers: map[string]string{"v4": "unchanged 198.51.100.7"}}, 0, "unchanged 198.51.100.7"},
		{reporter.State{PID: os.Getpid(), Every: 5 * time.Minute, Reached: time.Now().Add(-time.Hour)}, 1, "NOT REPORTING"},
		{reporter.State{PID: os.Getpid(), Every: 5 * time.Minute, Reached: time.Now(), Refused: true}, 1, "REFUSED"},
		{reporter.State{PID: 1 << 30, Every: 5 * time.Minute, Reached: time.Now()}, 1, "NOT RUNNING"},
		{reporter.State{PID: os.Getpid(), Every: 5 * time.Minute, Reached: time.Now().Add(-time.Minute), Tried: time.Now()}, 0, "the last report did not reach the service"},
	} {
		text, err := json.Marshal(c.state)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, text, 0o600))
		said, code := typed(t, "http://127.0.0.1:1", "--status", "--state-file", path)
		assert.Equal(t, c.code, code, said)
		assert.Contains(t, said, c.says)
	}
}
