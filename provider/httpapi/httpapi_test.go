package httpapi_test

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/outcall"
	"beacon/practice/practicetest"
	"beacon/provider"
	"beacon/provider/conform"
	"beacon/provider/httpapi"
	"beacon/reach"
)

func client(base, key string) outcall.Client {
	return outcall.Client{HTTP: reach.Loopback().HTTPClient(5 * time.Second), Base: base, Account: "scratch", Secret: key}
}

func TestHeronConforms(t *testing.T) {
	base := practicetest.Start(t, 1).URL("heron")
	conform.Run(t, conform.Subject{Driver: httpapi.NewHeron(client(base, "heron-practice-key")),
		WrongKey: httpapi.NewHeron(client(base, "wrong-key")), Zone: dnsname.MustParse("scratch.example")})
}

func TestPloverConforms(t *testing.T) {
	base := practicetest.Start(t, 1).URL("plover")
	conform.Run(t, conform.Subject{Driver: httpapi.NewPlover(client(base, "plover-practice-key")),
		WrongKey: httpapi.NewPlover(client(base, "wrong-key")), Zone: dnsname.MustParse("scratch.example")})
}

// Whatever an interface answers, a driver gives records or an error, and never panics.
func TestNonsenseIsAnError(t *testing.T) {
	for _, body := range []string{"", "null x", `{"sets":[{"label":"a..b","kind":"A","ttl":1,"values":["1"]}]}`,
		`{"sets":[{"label":"a","kind":"NOPE","ttl":1,"values":["1"]}]}`, `{"sets":[{"label":"a","kind":"A","ttl":1,"values":["x"]}]}`,
		`{"sets":[{"label":"a","kind":"A","ttl":1}]}`, "@ 60 A x"} {
		server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(rw, body) }))
		ref := provider.ZoneRef{ID: "z", Name: dnsname.MustParse("scratch.example")}
		_, err := httpapi.NewHeron(client(server.URL, "k")).Read(context.Background(), ref, provider.ReadFrom{})
		assert.Error(t, err, body)
		if body != "" {
			_, err = httpapi.NewPlover(client(server.URL, "k")).Read(context.Background(), ref, provider.ReadFrom{})
			require.Error(t, err, body)
		}
		server.Close()
	}
}
