package cli

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bytes"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/wire"
)

func TestHosts(t *testing.T) {
	at := time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)
	soon := func(ms int) *time.Time { m := at.Add(time.Duration(ms) * time.Millisecond); return &m }
	cam := dnsname.MustParse("pier-cam.saltmarsh-ferries.example")
	good := wire.ReportView{Outcome: dynaddr.Accepted, V4: "198.51.100.77", ReportedAt: at, AcceptedAt: soon(2),
		Arrivals: []wire.ArrivalView{{Account: "heron-main", WrittenAt: soon(40), VisibleAt: soon(12_000), SettlesBy: soon(60_000)}}}
	bad := wire.ReportView{Outcome: dynaddr.Refused, Reason: "10.0.0.7 is private", Peer: "127.0.0.1", Times: 3, ReportedAt: at}
	host := wire.HostView{Name: cam, Zone: dnsname.MustParse("saltmarsh-ferries.example"), V4: "198.51.100.77", TTL: 60, Status: dynaddr.IsReporting, SeenAt: &at, Last: &bad,
		Reports: []wire.ReportView{bad, good}}
	path := "/hosts/pier-cam.saltmarsh-ferries.example"
	s := &answers{replies: map[string]any{
		"GET /hosts":     wire.Page[wire.HostView]{Items: []wire.HostView{host}},
		"GET " + path:    host,
		"DELETE " + path: nil,
		"POST /hosts":    wire.HostAdded{Name: cam, Token: "abh_secret"},
		"GET /clock":     wire.ClockNow{World: at, Rate: 60},
	}}
	for _, c := range []struct {
		args []string
		says []string
	}{
		{[]string{"host", "list"}, []string{"pier-cam.saltmarsh-ferries.example", "198.51.100.77", "reporting; last change refused"}},
		{[]string{"host", "show", plain(cam)}, []string{"TTL 60", "(3 times in a row)", "heron-main:  accepted +2 ms,  written +40 ms,  visible +12 s", "by 12:01:00, in 1 min 0 s"}},
		{[]string{"host", "add", plain(cam), "--v4-only", "--ttl", "5m"}, []string{"abh_secret", "shown this once", "/api/v1/report"}},
		{[]string{"host", "remove", plain(cam), "--yes"}, []string{"revoked its token", "next sync of saltmarsh-ferries.example"}},
	} {
		out, errOut, code := beacon(t, s, c.args...)
		assert.Zero(t, code, "%v: %s", c.args, errOut)
		for _, part := range c.says {
			assert.Contains(t, out, part, "%v", c.args)
		}
	}
	assert.Contains(t, strings.Join(s.sent, "\n"), `"v4":true,"v6":false,"ttl":300`)
	file := filepath.Join(t.TempDir(), "token")
	out, _, code := beacon(t, s, "host", "add", plain(cam), "--token-file", file)
	require.Zero(t, code)
	assert.NotContains(t, out, "abh_secret")
	kept, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "abh_secret\n", string(kept))
	_, _, code = beacon(t, s, "host", "remove", plain(cam))
	assert.Equal(t, ExitMisuse, code, "nobody is there to be asked")
}

// Who waits for an address waits for the last one that was accepted, at every provider, and is told where that took too long.
func TestHostIsWaitedFor(t *testing.T) {
	at := time.Now()
	refused := wire.ReportView{Outcome: dynaddr.Refused, Reason: "it is private"}
	here, there := wire.ArrivalView{Account: "heron-main", VisibleAt: &at}, wire.ArrivalView{Account: "curlew-ops"}
	accepted := func(list ...wire.ArrivalView) wire.ReportView {
		return wire.ReportView{Outcome: dynaddr.Accepted, ReportedAt: at, AcceptedAt: &at, Arrivals: list}
	}
	for name, c := range map[string]struct {
		reports []wire.ReportView
		exit    int
	}{
		"nothing reported": {nil, ExitFine},
		"everywhere":       {[]wire.ReportView{refused, accepted(here), accepted(there)}, ExitFine},
		"not everywhere":   {[]wire.ReportView{accepted(here, there), accepted(here)}, ExitSettling},
		"at no provider":   {[]wire.ReportView{accepted()}, ExitFine},
	} {
		s := &answers{replies: map[string]any{"GET /hosts/cam.pier.example": wire.HostView{Name: dnsname.MustParse("cam.pier.example"), Reports: c.reports}, "GET /clock": wire.ClockNow{}}}
		_, errOut, code := beacon(t, s, "host", "show", "cam.pier.example", "--wait", "300ms")
		assert.Equal(t, c.exit, code, name)
		if c.exit != ExitFine {
			assert.Contains(t, errOut, "not visible everywhere after 300ms", name)
			assert.Greater(t, len(s.sent), 2, "it was looked at again")
		}
		_, _, code = beacon(t, s, "host", "show", "cam.pier.example")
		assert.Zero(t, code, "%s: nobody waits", name)
	}
}

func TestProgressOfAReport(t *testing.T) {
	at := time.Now()
	arrivals := func(list ...wire.ArrivalView) *wire.ReportView {
		return &wire.ReportView{Outcome: dynaddr.Accepted, Arrivals: list}
	}
	for want, r := range map[string]*wire.ReportView{
		"none":                      nil,
		"at no provider yet":        arrivals(),
		"accepted, not written yet": arrivals(wire.ArrivalView{}),
		"written, not visible yet":  arrivals(wire.ArrivalView{WrittenAt: &at}, wire.ArrivalView{VisibleAt: &at}),
		"visible":                   arrivals(wire.ArrivalView{VisibleAt: &at}),
		"held up at heron-main: no": arrivals(wire.ArrivalView{Account: "heron-main", Problem: "no"}),
		"overtaken":                 {Outcome: dynaddr.Accepted, Overtaken: true},
	} {
		assert.Contains(t, progress(r), want)
	}
}

// The reporter prints what it was answered, and its exit code tells a refusal from a service that was not reached.
func TestKeepOnce(t *testing.T) {
	token := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(token, []byte("abh_x\n"), 0o600))
	for line, want := range map[string]int{"accepted": ExitFine, "unchanged": ExitFine, "held 198.51.100.7: too often": ExitFine, "unreachable: behind a translator": ExitFailed, "refused: it is private": ExitFailed} {
		server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
			assert.Equal(t, "Bearer abh_x", r.Header.Get("Authorization"))
			assert.Equal(t, "v4=198.51.100.7", r.URL.RawQuery)
			if want != ExitFine {
				rw.WriteHeader(http.StatusUnprocessableEntity)
			}
			_, _ = rw.Write([]byte(line + "\n"))
		}))
		var out, errOut bytes.Buffer
		root := New(strings.NewReader(""), &out, &errOut)
		root.SetArgs([]string{"host", "report", "--once", "--token-file", token, "--v4", "198.51.100.7", "--address", server.URL})
		assert.Equal(t, want, Run(root, &errOut))
		assert.Contains(t, out.String(), line)
		server.Close()
	}
	var errOut bytes.Buffer
	for _, args := range [][]string{{"host", "report", "--once"}, {"host", "report", "--once", "--token-file", "/nowhere"}, {"host", "report", "--token-file", token, "--every", "1s"}} {
		root := New(strings.NewReader(""), &errOut, &errOut)
		root.SetArgs(args)
		assert.Equal(t, ExitMisuse, Run(root, &errOut), "%v", args)
	}
}
