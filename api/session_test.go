package api

import (
	"encoding/base64"
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"

	"beacon/core/access"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// raw makes a request with headers of its own.
func (s *site) raw(method, path, body string, headers map[string]string) *http.Response {
	s.t.Helper()
	req := httptest.NewRequest(method, path, strings.NewReader(body))
	if strings.HasSuffix(path, "/sessions") {
		req.Header.Set("Content-Type", "application/json")
	}
	for name, value := range headers {
		req.Header.Set(name, value)
	}
	rec := httptest.NewRecorder()
	s.handler.ServeHTTP(rec, req)
	return rec.Result()
}

// A browser signs in with a cookie that no script can read and no other site's page can use.
func TestBrowserSession(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.token = ""
	status, h, body := s.ask("POST", Base+"/sessions", `{"name":"admin","password":"correct horse","browser":true}`)
	require.Equal(t, http.StatusCreated, status)
	assert.Empty(t, body["token"], "the token is in the cookie only")
	cookie := h.Get("Set-Cookie")
	for _, part := range []string{sessionCookie + "=abs_", "HttpOnly", "SameSite=Strict", "Path=/api/v1"} {
		assert.Contains(t, cookie, part)
	}
	cookie, _, _ = strings.Cut(cookie, ";")
	asks := func(method, path string, headers map[string]string) int {
		all := map[string]string{"Cookie": cookie}
		for name, value := range headers {
			all[name] = value
		}
		return s.raw(method, path, "{}", all).StatusCode
	}
	assert.Equal(t, http.StatusOK, asks("GET", Base+"/me", nil))
	assert.Equal(t, http.StatusNotFound, asks("DELETE", Base+"/hosts/a.example", map[string]string{"Sec-Fetch-Site": "same-origin"}))
	assert.Equal(t, http.StatusForbidden, asks("DELETE", Base+"/hosts/a.example", map[string]string{"Sec-Fetch-Site": "cross-site"}))
	assert.Equal(t, http.StatusForbidden, asks("POST", Base+"/definitions", map[string]string{"Origin": "https://elsewhere.example"}))
	res := s.raw("DELETE", Base+"/sessions/current", "", map[string]string{"Cookie": cookie})
	assert.Equal(t, http.StatusNoContent, res.StatusCode)
	assert.Contains(t, res.Header.Get("Set-Cookie"), "Max-Age=0")
	assert.Equal(t, http.StatusUnauthorized, asks("GET", Base+"/me", nil), "the cookie is worth nothing afterwards")
	_, _, body = s.ask("GET", Base+"/sessions/current", "")
	assert.Equal(t, "", body["name"], "that nobody is signed in is no error here")
}

// A host's token comes as bearer or as the password of basic credentials, can report, and can do nothing else.
func TestReportsOverHTTP(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	status, _, _ := s.ask("POST", Base+"/definitions", `{"dry_run":false,"files":[{"name":"x","text":"zones:\n  a.example:\n    records: |\n      @ A 192.0.2.1\n"}]}`)
	require.Equal(t, http.StatusOK, status)
	status, _, body := s.ask("POST", Base+"/hosts", `{"name":"cam.a.example","v4":true,"v6":false}`)
	require.Equal(t, http.StatusCreated, status)
	token := body["token"].(string)
	bearer := map[string]string{"Authorization": "Bearer " + token}
	basic := map[string]string{"Authorization": "Basic " + base64.StdEncoding.EncodeToString([]byte("whoever:"+token))}
	object := map[string]string{"Authorization": "Bearer " + token, "Content-Type": "application/json"}
	form := map[string]string{"Authorization": "Bearer " + token, "Content-Type": "application/x-www-form-urlencoded"}
	for _, c := range []struct {
		name, method, query, body string
		headers                   map[string]string
		status                    int
		line                      string
	}{
		{"the first", "GET", "?v4=8.8.4.4", "", bearer, 200, "accepted 8.8.4.4"},
		{"again", "GET", "?v4=8.8.4.4&host=cam.a.example", "", basic, 200, "unchanged 8.8.4.4"},
		{"as a form", "POST", "", "v4=8.8.8.8", form, 200, "accepted 8.8.8.8"},
		{"an empty family", "GET", "?v4=8.8.8.8&v6=", "", bearer, 200, "unchanged 8.8.8.8"},
		{"the token as a parameter", "GET", "?v4=8.8.8.8&token=" + token, "", nil, 200, "unchanged 8.8.8.8"},
		{"as JSON", "PUT", "", `{"v4":"8.8.8.8","v6":null}`, object, 200, "unchanged 8.8.8.8"},
		{"a third quick change waits", "PUT", "", `{"v4":"8.8.8.9"}`, object, 200, "held 8.8.8.8: the address changes too often; the newest one is taken later"},
		{"back to what it was", "PUT", "", `{"v4":"8.8.8.8"}`, object, 200, "unchanged 8.8.8.8"},
		{"a private one", "GET", "?v4=10.0.0.1", "", bearer, 422, "refused: 10.0.0.1 is private (RFC 1918): only its own network reaches it"},
		{"the peer's own", "GET", "", "", bearer, 422, "refused: 192.0.2.1 is for documentation only (RFC 5737)"},
		{"a family that is not followed", "GET", "?v6=2a00::1", "", bearer, 422, "refused: 2a00::1: no host here follows an IPv6 address"},
		{"another host", "GET", "?host=b.a.example&v4=8.8.4.4", "", bearer, 422, `refused: this token reports for cam.a.example, not for "b.a.example"`},
		{"no token", "GET", "?v4=8.8.4.4", "", nil, 401, "refused: the token is not one of a host here"},
		{"a user's token", "GET", "?v4=8.8.4.4", "", map[string]string{"Authorization": "Bearer " + s.token}, 401, "refused: the token is not one of a host here"},
	} {
		res := s.raw(c.method, Base+"/report"+c.query, c.body, c.headers)
		text := make([]byte, 500)
		n, _ := res.Body.Read(text)
		assert.Equal(t, c.status, res.StatusCode, c.name)
		assert.Equal(t, c.line+"\n", string(text[:n]), c.name)
		assert.True(t, strings.HasPrefix(res.Header.Get("Content-Type"), "text/plain"), c.name)
	}
	forwarded := map[string]string{"Authorization": "Bearer " + token, "X-Forwarded-For": "8.8.4.4"}
	assert.Equal(t, 422, s.raw("GET", Base+"/report", "", forwarded).StatusCode, "nobody's word is taken for an address")
	for _, r := range routes() { // it is every route but those that are open, and those by which a token sees itself
		if r.needs != anybody && r.path != "/me" && (r.path != "/tokens" || r.method != "GET") {
			assert.Contains(t, []int{http.StatusForbidden, http.StatusNotFound}, s.raw(r.method, concrete(r), "{}", bearer).StatusCode, "%s %s", r.method, r.path)
		}
	}
	_, _, body = s.ask("GET", Base+"/hosts/cam.a.example", "")
	assert.Equal(t, "8.8.8.8", body["v4"])
	status, _, _ = s.ask("DELETE", Base+"/hosts/cam.a.example", "")
	assert.Equal(t, http.StatusNoContent, status)
	assert.Equal(t, 401, s.raw("GET", Base+"/report?v4=8.8.4.4", "", bearer).StatusCode, "the token ends with the host")
}

func TestConsoleIsServedBesideTheAPI(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	for _, path := range []string{"/", "/domains/a.example", "/sign-in"} {
		res := s.raw("GET", path, "", nil)
		assert.Equal(t, http.StatusOK, res.StatusCode, path)
		assert.NotEmpty(t, res.Header.Get("Content-Security-Policy"), path)
	}
	assert.Equal(t, "application/problem+json", s.raw("GET", "/api/v2/zones", "", nil).Header.Get("Content-Type"))
	assert.Equal(t, http.StatusNotFound, s.raw("POST", "/nowhere", "", nil).StatusCode)
}

// What a report does not know is not passed over: another address would be published than the one that was meant.
func TestReportsWithParametersThatAreUnknown(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	status, _, _ := s.ask("POST", Base+"/definitions", `{"dry_run":false,"files":[{"name":"x","text":"zones:\n  a.example:\n    records: |\n      @ A 192.0.2.1\n"}]}`)
	require.Equal(t, http.StatusOK, status)
	status, _, body := s.ask("POST", Base+"/hosts", `{"name":"cam.a.example","v4":true,"v6":false}`)
	require.Equal(t, http.StatusCreated, status)
	for _, c := range []struct{ method, query, kind, body, line string }{
		{"GET", "?ip=198.51.100.99", "", "", `refused: "ip" is no parameter of a report; it knows host, v4, v6 and prefix`},
		{"GET", "?v4=8.8.4.4&ip=198.51.100.99", "", "", `refused: "ip" is no parameter of a report; it knows host, v4, v6 and prefix`},
		{"GET", "?V4=8.8.4.4", "", "", `refused: "V4" is no parameter of a report; it knows host, v4, v6 and prefix`},
		{"GET", "?v4=8.8.4.4&v4=8.8.8.8", "", "", "refused: v4 is given more than once"},
		{"GET", "?v4=8.8.4.4;v6=", "", "", "refused: the parameters cannot be read; they are host, v4, v6 and prefix, as in v4=ADDRESS&v6=ADDRESS"},
		{"POST", "", "application/json", `{"v4":8}`, `refused: the body: "v4" is neither a text nor a list of texts; send an object such as {"v4": "ADDRESS"}`},
		{"PUT", "", "application/json", `["8.8.4.4"]`, `refused: the body: it is no JSON object; send an object such as {"v4": "ADDRESS"}`},
		{"PUT", "", "text/plain", "8.8.4.4", "refused: a body of text/plain is not read; send host, v4, v6 and prefix in the query, as a form, or as a JSON object"},
		{"POST", "", "", `{"v4":"8.8.4.4"}`, "refused: a body without a Content-Type is not read; send host, v4, v6 and prefix in the query, as a form, or as a JSON object"},
		{"POST", "?v4=8.8.4.4", "application/x-www-form-urlencoded", "v4=8.8.8.8", "refused: v4 is given more than once"},
		{"POST", "", "application/x-www-form-urlencoded", "v4=" + strings.Repeat("8", 5000), "refused: the body is longer than 4096 octets"},
	} {
		headers := map[string]string{"Authorization": "Bearer " + body["token"].(string)}
		if c.kind != "" {
			headers["Content-Type"] = c.kind
		}
		res := s.raw(c.method, Base+"/report"+c.query, c.body, headers)
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		assert.Equal(t, http.StatusUnprocessableEntity, res.StatusCode, c.line)
		assert.Equal(t, c.line+"\n", string(text))
	}
}

// A page of another site can post a sign-in as text, as a form or without a type: none of them sets a cookie. A sign-in is small, whatever it says it is.
func TestSignInsThatAreRefused(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	const right = `{"name":"admin","password":"correct horse","browser":true}`
	for _, kind := range []string{"text/plain", "text/plain;charset=UTF-8", "application/x-www-form-urlencoded", "multipart/form-data", "application/json-patch+json", "text/dns", ""} {
		res := s.raw("POST", Base+"/sessions", right, map[string]string{"Content-Type": kind})
		assert.Equal(t, http.StatusUnprocessableEntity, res.StatusCode, kind)
		assert.Empty(t, res.Header.Get("Set-Cookie"), kind)
	}
	res := s.raw("POST", Base+"/sessions", right, map[string]string{"Content-Type": "application/json; charset=utf-8"})
	assert.Equal(t, http.StatusCreated, res.StatusCode)
	assert.NotEmpty(t, res.Header.Get("Set-Cookie"))

	large := `{"name":"admin","password":"` + strings.Repeat("x", 5000) + `"}`
	res = s.raw("POST", Base+"/sessions", large, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, res.StatusCode)
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	assert.Contains(t, string(text), "more than 4 KiB")

	limited := 0
	for range 10 {
		res := s.raw("POST", Base+"/sessions", `{"name":"admin","password":"guess"}`, nil)
		if res.StatusCode == http.StatusTooManyRequests {
			limited++
			assert.NotEmpty(t, res.Header.Get("Retry-After"))
		} else {
			assert.Equal(t, http.StatusUnauthorized, res.StatusCode)
		}
	}
	assert.Equal(t, 5, limited)
}

// A user changes its own password and ends its own sessions; another one is removed, and its token ends with it. The last one stays.
func TestUsersComeAndGo(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	signIn := func(name, password string) (int, string) {
		status, _, body := s.ask("POST", Base+"/sessions", `{"name":"`+name+`","password":"`+password+`"}`)
		token, _ := body["token"].(string)
		return status, token
	}
	with := func(token, method, path, body string) (int, map[string]any) {
		was := s.token
		defer func() { s.token = was }()
		s.token = token
		status, _, out := s.ask(method, Base+path, body)
		return status, out
	}
	status, _, added := s.ask("POST", Base+"/users", `{"name":"petra"}`)
	require.Equal(t, http.StatusCreated, status)
	password := added["password"].(string)
	status, one := signIn("petra", password)
	require.Equal(t, http.StatusCreated, status)
	_, two := signIn("petra", password)
	_, list := with(one, "GET", "/users/current/sessions", "")
	require.Len(t, list["items"], 2)

	for body, says := range map[string]string{`{"current":"wrong","new":"seagulls over the quay"}`: "current password is wrong", `{"current":"` + password + `","new":"short"}`: "12 are the least",
		`{"current":"` + password + `","new":"` + password + `"}`: "is the current one", `{"current":"` + password + `","new":"my-name-is-petra!"}`: "name of the user"} {
		status, out := with(one, "PUT", "/users/current/password", body)
		assert.Equal(t, http.StatusUnprocessableEntity, status)
		assert.Contains(t, out["detail"], says)
	}
	status, _ = with(one, "PUT", "/users/current/password", `{"current":"`+password+`","new":"seagulls over the quay"}`)
	require.Equal(t, http.StatusNoContent, status)
	status, _ = with(two, "GET", "/zones", "")
	assert.Equal(t, http.StatusUnauthorized, status, "the other session has ended")
	status, _ = with(one, "GET", "/zones", "")
	assert.Equal(t, http.StatusOK, status)
	status, _ = signIn("petra", password)
	assert.Equal(t, http.StatusUnauthorized, status)
	status, two = signIn("petra", "seagulls over the quay")
	require.Equal(t, http.StatusCreated, status)

	_, list = with(two, "GET", "/users/current/sessions", "")
	for _, item := range list["items"].([]any) {
		session := item.(map[string]any)
		id := strconv.Itoa(int(session["id"].(float64)))
		if session["current"].(bool) {
			status, _ = with(s.token, "DELETE", "/users/current/sessions/"+id, "")
			assert.Equal(t, http.StatusNotFound, status, "it is none of another user")
			continue
		}
		status, _ = with(two, "DELETE", "/users/current/sessions/"+id, "")
		assert.Equal(t, http.StatusNoContent, status)
	}
	status, _ = with(one, "GET", "/zones", "")
	assert.Equal(t, http.StatusUnauthorized, status)

	status, _, _ = s.ask("DELETE", Base+"/users/petra", "")
	require.Equal(t, http.StatusNoContent, status)
	status, _ = with(two, "GET", "/zones", "")
	assert.Equal(t, http.StatusUnauthorized, status)
	status, _ = signIn("petra", "seagulls over the quay")
	assert.Equal(t, http.StatusUnauthorized, status)
	status, _, out := s.ask("DELETE", Base+"/users/admin", "")
	assert.Equal(t, http.StatusConflict, status)
	assert.Contains(t, out["detail"], "last user")
	status, _, _ = s.ask("DELETE", Base+"/users/nobody", "")
	assert.Equal(t, http.StatusNotFound, status)
}

// Reports are limited by their tokens, and those with wrong tokens by their networks: neither keeps another client from reporting.
func TestTooManyReports(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	status, _, _ := s.ask("POST", Base+"/definitions", `{"dry_run":false,"files":[{"name":"x","text":"zones:\n  a.example:\n    records: |\n      @ A 192.0.2.1\n"}]}`)
	require.Equal(t, http.StatusOK, status)
	var tokens []string
	for _, name := range []string{"cam", "gauge"} {
		_, _, body := s.ask("POST", Base+"/hosts", `{"name":"`+name+`.a.example","v4":true}`)
		tokens = append(tokens, body["token"].(string))
	}
	answers := func(token string, n int) map[int]int {
		codes := map[int]int{}
		for range n {
			res := s.raw("GET", Base+"/report?v4=8.8.8.8", "", map[string]string{"Authorization": "Bearer " + token})
			if codes[res.StatusCode]++; res.StatusCode == http.StatusTooManyRequests {
				assert.NotEmpty(t, res.Header.Get("Retry-After"))
				text, err := io.ReadAll(res.Body)
				require.NoError(t, err)
				assert.Contains(t, string(text), "refused: too many reports")
			}
		}
		return codes
	}
	wrong := answers(access.TokenText(access.HostToken, [32]byte{7}), 50)
	assert.Positive(t, wrong[http.StatusTooManyRequests])
	assert.GreaterOrEqual(t, wrong[http.StatusUnauthorized], 30)
	many := answers(tokens[0], 120)
	assert.Positive(t, many[http.StatusTooManyRequests])
	assert.GreaterOrEqual(t, many[http.StatusOK], 60)
	assert.Equal(t, map[int]int{http.StatusOK: 3}, answers(tokens[1], 3), "from the same network as all of these")
}
