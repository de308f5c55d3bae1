package outcall

import (
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A credential that travels in its own way is in no error, no log line and no trace, in none of its forms, even where the
// other side repeats everything.
func TestOwnWayOfCredentials(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		rw.WriteHeader(http.StatusTeapot)
		fmt.Fprintf(rw, "%v %s %s", r.Header, r.URL, body)
	}))
	defer server.Close()
	coded := base64.StdEncoding.EncodeToString([]byte("user:hidden"))
	var seen []string
	c := Client{HTTP: server.Client(), Base: server.URL, Secret: "user:hidden",
		Observe: func(_ context.Context, call Call) { seen = append(seen, call.Path+call.Problem) },
		Trace:   func(e Exchange) { seen = append(seen, fmt.Sprintf("%+v", e)) },
		Authorize: func(r *http.Request, body []byte) ([]string, error) {
			assert.Equal(t, `{"a":1}`, string(body), "whoever signs sees the body")
			r.SetBasicAuth("user", "hidden")
			q := r.URL.Query()
			q.Set("key", "hidden")
			r.URL.RawQuery = q.Encode()
			return []string{"hidden", coded}, nil
		}}
	_, err := c.Do(context.Background(), Request{Method: "POST", Path: "/x", JSON: map[string]int{"a": 1}})
	require.Error(t, err)
	seen = append(seen, err.Error())
	require.Len(t, seen, 3)
	for _, text := range seen {
		assert.NotContains(t, text, "hidden")
		assert.NotContains(t, text, coded)
	}
	assert.Contains(t, seen[0], "418", "the trace shows the answer")
	assert.Contains(t, err.Error(), "key=…", "and the error what was said")

	c.Authorize = func(*http.Request, []byte) ([]string, error) {
		return []string{"hidden"}, fmt.Errorf("cannot sign with hidden")
	}
	_, err = c.Do(context.Background(), Request{Method: "GET", Path: "/x"})
	assert.Equal(t, NotSent, OutcomeOf(err))
}
