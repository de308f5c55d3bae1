package outcall

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever happens to a request, its kind and its outcome are told apart.
func TestFailures(t *testing.T) {
	status := func(code int, headers ...string) http.HandlerFunc {
		return func(rw http.ResponseWriter, r *http.Request) {
			if len(headers) > 0 {
				rw.Header().Set(headers[0], headers[1])
			}
			rw.WriteHeader(code)
			_, _ = io.WriteString(rw, "no: s3cret")
		}
	}
	cut := func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }
	slow := func(_ http.ResponseWriter, r *http.Request) { time.Sleep(300 * time.Millisecond) }
	for _, c := range []struct {
		name    string
		method  string
		handler http.HandlerFunc
		kind    Kind
		outcome Outcome
		retry   time.Duration
	}{
		{"refused", "POST", status(422), Refused, NotDone, 0},
		{"wrong key", "POST", status(401), Unauthorised, NotDone, 0},
		{"forbidden", "GET", status(403), Unauthorised, NotDone, 0},
		{"missing", "GET", status(404), NotFound, NotDone, 0},
		{"changed meanwhile", "PUT", status(412), Conflict, NotDone, 0},
		{"limited", "POST", status(429, "Retry-After", "7"), Limited, NotDone, 7 * time.Second},
		{"broken while writing", "POST", status(500), Unavailable, Unclear, 0},
		{"broken while reading", "GET", status(503), Unavailable, NotDone, 0},
		{"cut while writing", "POST", cut, Unavailable, Unclear, 0},
		{"cut while reading", "GET", cut, Unavailable, NotDone, 0},
		{"slow while writing", "POST", slow, Unavailable, Unclear, 0},
		{"redirected elsewhere", "POST", status(302, "Location", "http://192.0.2.1/"), Refused, NotDone, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			server := httptest.NewServer(c.handler)
			defer server.Close()
			var seen []Call
			client := &Client{HTTP: &http.Client{Timeout: 100 * time.Millisecond,
				CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }},
				Base: server.URL, Account: "heron-main", Header: "Key", Secret: "s3cret",
				Observe: func(_ context.Context, call Call) { seen = append(seen, call) }}
			_, err := client.Do(context.Background(), Request{Method: c.method, Path: "/x"})
			require.Error(t, err)
			assert.Equal(t, c.kind, KindOf(err))
			assert.Equal(t, c.outcome, OutcomeOf(err))
			assert.Equal(t, c.retry, RetryAfterOf(err))
			assert.NotContains(t, err.Error(), "s3cret")
			assert.Contains(t, err.Error(), "heron-main")
			require.Len(t, seen, 1, "every request is told of, once")
			assert.NotContains(t, seen[0].Problem, "s3cret")
		})
	}
}

// Wherever in a long answer the credential stands, no part of it is repeated.
func TestSecretAcrossTheCut(t *testing.T) {
	client := &Client{Secret: "abcdefghijklmnopqrstuvwxyz"}
	for at := maxWords - 60; at < maxWords+10; at++ {
		body := client.Secret + strings.Repeat(".", at) + client.Secret + strings.Repeat(".", 400)
		err := client.statusError(Request{Method: "POST", Path: "/x"}, Response{Status: 422, Body: []byte(body)})
		assert.NotContains(t, err.Said, "abc", "at %d", at)
	}
}

func TestNotSent(t *testing.T) {
	server := httptest.NewServer(http.NotFoundHandler())
	server.Close()
	client := &Client{HTTP: http.DefaultClient, Base: server.URL, Header: "Key"}
	_, err := client.Do(context.Background(), Request{Method: "POST", Path: "/x"})
	assert.Equal(t, NotSent, OutcomeOf(err))
	assert.Equal(t, Unavailable, KindOf(err))
}

func TestReadWantsJSON(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "Bearer s3cret", r.Header.Get("Authorization"))
		_, _ = io.WriteString(rw, "<html>")
	}))
	defer server.Close()
	client := &Client{HTTP: http.DefaultClient, Base: server.URL, Header: "Authorization", Prefix: "Bearer ", Secret: "s3cret"}
	var into struct{}
	_, err := client.Read(context.Background(), Request{Method: "GET", Path: "/"}, &into)
	assert.ErrorContains(t, err, "not the JSON expected")
}

func TestRetryAfter(t *testing.T) {
	for value, want := range map[string]time.Duration{"": 0, "7": 7 * time.Second, "-3": 0, "99999": time.Hour, "soon": 0,
		time.Now().Add(-time.Hour).UTC().Format(http.TimeFormat): 0} {
		assert.Equal(t, want, retryAfter(http.Header{"Retry-After": {value}}), value)
	}
	inAMinute := retryAfter(http.Header{"Retry-After": {time.Now().Add(time.Minute).UTC().Format(http.TimeFormat)}})
	assert.InDelta(t, 60, inAMinute.Seconds(), 2)
}

// Whatever an error is, asking for its kind and outcome gives the careful answer.
func TestErrorsOfOtherSorts(t *testing.T) {
	assert.Equal(t, Kind(""), KindOf(io.EOF))
	assert.Equal(t, Unclear, OutcomeOf(io.EOF), "what is not known may have been done")
	assert.Zero(t, RetryAfterOf(io.EOF))
	client := &Client{Account: "heron-main", Secret: "s3cret"}
	err := client.Unreadable("GET /x", io.ErrUnexpectedEOF)
	assert.Equal(t, Refused, KindOf(err))
	assert.ErrorContains(t, err, "cannot be read")
	err = client.Unreadable("GET /x", fmt.Errorf("errors.when: %w", context.DeadlineExceeded))
	assert.Equal(t, Unavailable, KindOf(err), "the answer is not to blame")
}
