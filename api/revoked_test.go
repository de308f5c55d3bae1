package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/wire"
)

// streamAt opens the event stream of an instance, and returns what it said once it has ended.
func streamAt(t *testing.T, address, token string) <-chan string {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	req, err := http.NewRequestWithContext(ctx, "GET", address+Base+"/events", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	t.Cleanup(func() { res.Body.Close() })
	require.Equal(t, http.StatusOK, res.StatusCode)
	said := make(chan string, 1)
	go func() {
		text, _ := io.ReadAll(res.Body)
		said <- string(text)
	}()
	return said
}

// statusAt asks an instance who a token is.
func statusAt(t *testing.T, address, token string) int {
	t.Helper()
	req, err := http.NewRequest("GET", address+Base+"/zones", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	res.Body.Close()
	return res.StatusCode
}

// A token that is revoked, one whose maker is removed, and a user that is removed, in the middle of what they do: the next request is refused, and the
// stream has ended within moments, at both of two instances. One that was renewed goes on for the overlap.
func TestRevokedInTheMiddle(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	one, stopOne := w.instance()
	defer stopOne()
	two, stopTwo := w.instance()
	defer stopTwo()
	machine := w.as(who{"viewer", false, true})
	user := w.as(who{"operator", false, false})
	admin := w.token
	w.token = user
	_, _, out := w.ask("POST", Base+"/tokens", `{"name":"made-by-petra","grants":[{"role":"viewer"}]}`)
	hers, _ := out["token"].(string)
	w.token = admin
	for _, c := range []struct {
		what, method, path string
		tokens             []string
	}{
		{"a revoked token", "DELETE", "/tokens/machine", []string{machine}},
		{"a removed user, and its token", "DELETE", "/users/petra", []string{user, hers}},
	} {
		var streams []<-chan string
		for _, token := range c.tokens {
			for _, address := range []string{one, two} {
				require.Equal(t, http.StatusOK, statusAt(t, address, token), c.what)
				streams = append(streams, streamAt(t, address, token))
			}
		}
		status, _, body := w.ask(c.method, Base+c.path, "")
		require.Equal(t, http.StatusNoContent, status, body)
		began := time.Now()
		for _, token := range c.tokens {
			assert.Equal(t, http.StatusUnauthorized, statusAt(t, one, token), c.what)
			assert.Equal(t, http.StatusUnauthorized, statusAt(t, two, token), c.what)
		}
		for _, said := range streams {
			select {
			case text := <-said:
				assert.Contains(t, text, "event: signed-out", c.what)
			case <-time.After(10 * time.Second):
				t.Fatal("the stream goes on: " + c.what)
			}
		}
		t.Logf("%s: all streams ended after %s", c.what, time.Since(began).Round(time.Millisecond))
	}
	status, _, made := w.ask("POST", Base+"/tokens", `{"name":"renewed","grants":[{"role":"viewer"}]}`)
	require.Equal(t, http.StatusCreated, status)
	status, _, again := w.ask("POST", Base+"/tokens/renewed/renewals", `{"overlap":3600}`)
	require.Equal(t, http.StatusCreated, status, again)
	assert.Equal(t, http.StatusOK, statusAt(t, two, made["token"].(string)), "within the overlap")
	assert.Equal(t, http.StatusOK, statusAt(t, two, again["token"].(string)))
	status, _, last := w.ask("POST", Base+"/tokens/renewed/renewals", `{}`)
	require.Equal(t, http.StatusCreated, status, last)
	assert.Equal(t, http.StatusUnauthorized, statusAt(t, two, made["token"].(string)))
	assert.Equal(t, http.StatusUnauthorized, statusAt(t, two, again["token"].(string)), "without an overlap it ends at once")
	assert.Equal(t, http.StatusOK, statusAt(t, two, last["token"].(string)))
}

// A user that is granted less has less from the next request on, and so have its tokens; nobody grants more than they have.
func TestGrantsChange(t *testing.T) {
	w := newWorld(t)
	user := w.as(who{"operator", false, false})
	admin := w.token
	w.token = user
	status, _, out := w.ask("POST", Base+"/tokens", `{"name":"ci","grants":[{"role":"operator"}]}`)
	require.Equal(t, http.StatusCreated, status, out)
	token := out["token"].(string)
	for body, says := range map[string]string{
		`{"name":"more","grants":[{"role":"owner"}]}`:                                   "connect",
		`{"name":"more","grants":[]}`:                                                   "no grant",
		`{"name":"Not a name","grants":[{"role":"viewer"}]}`:                            "name of a token",
		`{"name":"more","grants":[{"role":"viewer"}],"networks":["192.0.2.7/24"]}`:      "not a network",
		`{"name":"more","grants":[{"role":"viewer"}],"expires":"2020-01-01T00:00:00Z"}`: "past",
		`{"name":"more","grants":[{"role":"viewer","actions":["see"]}]}`:                "either a role or actions",
		`{"name":"more","grants":[{"actions":["fly"]}]}`:                                "no action",
		`{"name":"more","grants":[{"role":"viewer","zones":["*."]}]}`:                   "",
		`{"name":"ci","grants":[{"role":"viewer"}]}`:                                    "ci",
	} {
		status, _, out := w.ask("POST", Base+"/tokens", body)
		assert.GreaterOrEqual(t, status, 400, body)
		assert.Less(t, status, 500, body)
		assert.Contains(t, out["detail"], says, body)
	}
	status, _, _ = w.ask("POST", Base+"/tokens", `{"name":"elsewhere","grants":[{"role":"viewer"}],"networks":["198.51.100.0/24"]}`)
	require.Equal(t, http.StatusCreated, status)

	w.token = admin
	status, _, out = w.ask("PUT", Base+"/users/petra/grants", `{"grants":[{"role":"viewer","zones":["own.example"]}]}`)
	require.Equal(t, http.StatusNoContent, status, out)
	for _, with := range []string{user, token} {
		w.token = with
		status, _, _ = w.ask("GET", Base+"/zones/own.example", "")
		assert.Equal(t, http.StatusOK, status)
		status, _, _ = w.ask("GET", Base+"/zones/other.example", "")
		assert.Equal(t, http.StatusForbidden, status)
		status, _, _ = w.ask("POST", Base+"/zones/own.example/syncs", "{}")
		assert.Equal(t, http.StatusForbidden, status)
	}
	w.token = admin
	status, _, out = w.ask("PUT", Base+"/users/admin/grants", `{"grants":[{"role":"viewer"}]}`)
	assert.Equal(t, http.StatusConflict, status, "somebody manages users")
	assert.Contains(t, out["detail"], "No user could manage users")
	_, _, list := w.ask("GET", Base+"/tokens", "")
	text, err := json.Marshal(list)
	require.NoError(t, err)
	assert.Contains(t, string(text), `"used":["see"`)
	assert.NotContains(t, string(text), token, "no text of a token is shown again")
}

// A token counts only from its networks; where it comes from elsewhere, the logbook says from where.
func TestNetworksOfATokens(t *testing.T) {
	w := newWorld(t)
	for networks, want := range map[string]int{`["192.0.2.0/24"]`: http.StatusOK, `["198.51.100.0/24","2001:db8::/32"]`: http.StatusForbidden} { // httptest comes from 192.0.2.1
		name := "n" + strings.Trim(regexp.MustCompile(`[^0-9]+`).ReplaceAllString(networks, ""), ".")
		status, _, out := w.ask("POST", Base+"/tokens", fmt.Sprintf(`{"name":%q,"grants":[{"role":"viewer"}],"networks":%s}`, name, networks))
		require.Equal(t, http.StatusCreated, status, out)
		admin := w.token
		w.token = out["token"].(string)
		assert.True(t, access.Known(w.token))
		status, _, _ = w.ask("GET", Base+"/zones", "")
		assert.Equal(t, want, status, networks)
		w.token = admin
	}
	_, _, book := w.ask("GET", Base+"/logbook?limit=50", "")
	text, err := json.Marshal(book)
	require.NoError(t, err)
	assert.Contains(t, string(text), "token.refused")
	assert.Contains(t, string(text), "from 192.0.2.1")
}

// The script of the quick start in the API's page does what it says, on a fresh start, with curl alone; and its token may do nothing else.
func TestQuickStartOfTheDocs(t *testing.T) {
	t.Parallel()
	s := &site{t: t, settings: newSettings(t)}
	svc := s.open()
	code, err := svc.Users.FirstCode(context.Background())
	require.NoError(t, err)
	svc.Close()
	address, stop := s.instance()
	defer stop()
	page, err := os.ReadFile(filepath.Join("..", "docs", "api.md"))
	require.NoError(t, err)
	_, rest, found := strings.Cut(string(page), "## Quick start\n")
	require.True(t, found)
	section, _, _ := strings.Cut(rest, "\n## ")
	script := "set -e\n"
	for line := range strings.Lines(section) {
		if text, ok := strings.CutPrefix(line, "    "); ok && !strings.HasPrefix(text, "BEACON=") && !strings.HasPrefix(text, "CODE=") {
			script += text
		}
	}
	script += "echo; echo TOKEN $TOKEN\n"
	cmd := exec.Command("sh", "-c", script)
	cmd.Env = append(os.Environ(), "BEACON="+address, "CODE="+code)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s\n%s", script, out)
	_, token, _ := strings.Cut(string(out), "TOKEN ")
	token = strings.TrimSpace(token)
	assert.True(t, access.Known(token), "%s", out)
	assert.Contains(t, string(out), "192.0.2.7")
	ask := func(method, path, body string) (int, string) {
		req, err := http.NewRequest(method, address+Base+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(text)
	}
	status, text := ask("GET", "/zones/tides.example/sets/www/A", "")
	assert.Equal(t, http.StatusOK, status)
	assert.Contains(t, text, "192.0.2.8")
	status, text = ask("POST", "/zones/elsewhere.example/imports", `{"file":"f","text":"@ 60 A 192.0.2.1\n","partial":true}`)
	assert.Equal(t, http.StatusForbidden, status, text)
	status, text = ask("GET", "/users", "")
	assert.Equal(t, http.StatusForbidden, status, text)
	var p wire.ProblemDocument
	require.NoError(t, json.Unmarshal([]byte(text), &p))
	assert.Contains(t, p.Detail, `the action "users"`)
}

// A token renews itself, and cannot live longer by that than its maker allowed; a user can let it.
func TestTokenCannotProlongItself(t *testing.T) {
	w := newWorld(t)
	ends := time.Now().Add(time.Hour).UTC().Truncate(time.Second)
	status, _, made := w.ask("POST", Base+"/tokens", fmt.Sprintf(`{"name":"short","grants":[{"role":"viewer"}],"expires":%q}`, ends.Format(time.RFC3339)))
	require.Equal(t, http.StatusCreated, status, made)
	later := fmt.Sprintf(`{"expires":%q}`, ends.Add(30*24*time.Hour).Format(time.RFC3339))
	admin := w.token
	w.token = made["token"].(string)
	status, _, body := w.ask("POST", Base+"/tokens/short/renewals", later)
	assert.Equal(t, http.StatusForbidden, status, body)
	status, _, made = w.ask("POST", Base+"/tokens/short/renewals", `{}`)
	require.Equal(t, http.StatusCreated, status, made)
	assert.Equal(t, ends.Format(time.RFC3339), made["expires"])
	w.token = admin
	status, _, body = w.ask("POST", Base+"/tokens/short/renewals", later)
	assert.Equal(t, http.StatusCreated, status, body)
	status, _, body = w.ask("POST", Base+"/tokens/short/renewals", `{"overlap":36028797018963968}`)
	assert.Equal(t, http.StatusUnprocessableEntity, status, body)
	status, _, made = w.ask("POST", Base+"/tokens", fmt.Sprintf(`{"name":"manager","grants":[{"role":"owner"}],"expires":%q}`, ends.Format(time.RFC3339)))
	require.Equal(t, http.StatusCreated, status, made)
	w.token = made["token"].(string)
	status, _, body = w.ask("POST", Base+"/tokens", `{"name":"endless","grants":[{"role":"viewer"}]}`)
	assert.Equal(t, http.StatusForbidden, status, body)
}
