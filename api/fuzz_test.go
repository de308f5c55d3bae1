package api

import (
	"bytes"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
)

// fuzzed is a site for fuzzing: its database is made once.
func fuzzed(f *testing.F) *site {
	f.Helper()
	return newSite(f)
}

// asked sends octets as a request, and looks that they are answered as the API answers, without anything breaking.
func asked(t *testing.T, s *site, method, path, media, token string, body []byte) *httptest.ResponseRecorder {
	req, err := http.NewRequest(method, path, bytes.NewReader(body))
	if err != nil {
		return nil
	}
	req.Host, req.RemoteAddr = "example.com", "192.0.2.1:4000"
	req.Header.Set("Content-Type", media)
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	rec := httptest.NewRecorder()
	s.handler.ServeHTTP(rec, req)
	assert.NotEqual(t, http.StatusInternalServerError, rec.Code, "%s %s: %s", method, path, rec.Body)
	return rec
}

// A report of any form is accepted, unchanged or refused, in one line.
func FuzzReport(f *testing.F) {
	s := fuzzed(f)
	s.ask("POST", Base+"/zones/a.example/imports", `{"partial":true,"file":"f","text":"@ 60 A 192.0.2.1\n"}`)
	var tokens []string // many, for each may report so often
	for i := range 200 {
		_, _, made := s.ask("POST", Base+"/hosts", fmt.Sprintf(`{"name":"cam%d.a.example","v4":true,"v6":true}`, i))
		token, _ := made["token"].(string)
		tokens = append(tokens, token)
	}
	var turn atomic.Int64
	f.Add("v4=8.8.8.8&v6=2001:db8::1", "application/x-www-form-urlencoded", []byte("host=cam.a.example"), true)
	f.Add("host=%00&v4=999.1.1.1", "multipart/form-data; boundary=x", []byte("--x\r\nContent-Disposition: form-data; name=\"v4\"\r\n\r\n8.8.4.4\r\n--x--"), true)
	f.Add("", "text/plain", []byte("v4=8.8.8.8"), false)
	f.Add("prefix=2a00::/56", "application/json", []byte(`{"v4":"8.8.8.8","v6":["none"],"prefix":["2a00:1::/64",null]}`), true)
	f.Fuzz(func(t *testing.T, query, media string, body []byte, right bool) {
		with := tokens[turn.Add(1)%int64(len(tokens))]
		if !right {
			with = "abh_" + strings.TrimPrefix(query, "abh_")
		}
		if strings.ContainsAny(with, "\r\n\x00") || strings.ContainsAny(media, "\r\n\x00") {
			return
		}
		rec := asked(t, s, "POST", Base+"/report?"+url.PathEscape(query), media, with, body)
		if rec == nil {
			return
		}
		line := rec.Body.String()
		assert.Equal(t, 1, strings.Count(line, "\n"), "%q", line)
		assert.Regexp(t, `^(accepted|unchanged|held|unreachable|refused)`, line)
	})
}

// A sign-in of any form that is not the right one signs nobody in.
func FuzzSignIn(f *testing.F) {
	s := fuzzed(f)
	f.Add([]byte(`{"name":"admin","password":"wrong"}`), "application/json")
	f.Add([]byte(`{"name":"admin","password":"`+strings.Repeat("x", 2000)+`"}`), "application/json; charset=utf-8")
	f.Add([]byte(`[]`), "text/plain")
	f.Fuzz(func(t *testing.T, body []byte, media string) {
		if strings.ContainsAny(media, "\r\n\x00") || bytes.Contains(body, []byte("correct horse")) {
			return
		}
		rec := asked(t, s, "POST", Base+"/sessions", media, "", body)
		if rec != nil {
			assert.GreaterOrEqual(t, rec.Code, 400)
			assert.Empty(t, rec.Result().Cookies())
		}
	})
}

var bodies = sync.OnceValue(func() (list []route) {
	for _, r := range routes() {
		if r.in != nil && r.stream == nil && r.path != "/clock/steps" {
			list = append(list, r)
		}
	}
	return list
})

// A body of any form, sent to any route that takes one, is used or refused, and breaks nothing.
func FuzzBodies(f *testing.F) {
	s := fuzzed(f)
	for i := range bodies() {
		f.Add(uint8(i), []byte(`{}`))
		f.Add(uint8(i), []byte(matrix[bodies()[i].method+" "+bodies()[i].path].body))
	}
	f.Add(uint8(0), []byte(`{"files":[{"name":"f","text":"zones:\n  a.example:\n    records: |\n      @ A 1\n"}]}`))
	f.Add(uint8(1), []byte(`null`))
	f.Fuzz(func(t *testing.T, which uint8, body []byte) {
		r := bodies()[int(which)%len(bodies())]
		asked(t, s, r.method, concrete(r), "application/json", s.token, body)
	})
}

// A token of any form in the header is refused, and a name of a token, a user or a host of any form in the path breaks nothing.
func FuzzPaths(f *testing.F) {
	s := fuzzed(f)
	f.Add(uint8(0), "a.example", "1")
	f.Add(uint8(9), "..%2f..", "-1")
	f.Add(uint8(20), "xn--\x00", "18446744073709551616")
	f.Fuzz(func(t *testing.T, which uint8, name, id string) {
		list := routes()
		r := list[int(which)%len(list)]
		if r.stream != nil || r.method != "GET" {
			return
		}
		path := Base + strings.NewReplacer(":name", url.PathEscape(name), ":id", url.PathEscape(id), ":owner", url.PathEscape(id), ":type", url.PathEscape(name)).Replace(r.path)
		asked(t, s, "GET", path, "application/json", s.token, nil)
	})
}
