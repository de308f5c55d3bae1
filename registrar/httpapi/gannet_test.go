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
	"beacon/reach"
	"beacon/registrar/conform"
	"beacon/registrar/httpapi"
)

func gannet(base, key string) *httpapi.Gannet {
	return httpapi.NewGannet(outcall.Client{HTTP: reach.Loopback().HTTPClient(5 * time.Second), Base: base, Account: "scratch", Secret: key})
}

func TestGannetConforms(t *testing.T) {
	w := practicetest.Start(t, 1)
	require.NoError(t, w.Register("scratch.example", []string{"a.plover.test", "b.plover.test"}, 0))
	for i := range 60 { // more than a page
		require.NoError(t, w.Register("extra-"+string(rune('a'+i%26))+string(rune('a'+i/26))+".example", []string{"a.plover.test", "b.plover.test"}, 0))
	}
	conform.Run(t, conform.Subject{Driver: gannet(w.URL("gannet"), "gannet-practice-key"), WrongKey: gannet(w.URL("gannet"), "wrong-key"),
		Domain: dnsname.MustParse("scratch.example"), Other: []dnsname.Name{dnsname.MustParse("quay-11.heron.test"), dnsname.MustParse("quay-13.heron.test")}})
}

func TestNonsenseIsAnError(t *testing.T) {
	for _, body := range []string{"", "[]", `{"domain":"a..b"}`, `{"domain":"a.example","stored_hosts":["x..y"]}`, `{"domain":"a.example","hosts_in_force":["x..y"]}`} {
		server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(rw, body) }))
		_, err := gannet(server.URL, "k").Domain(context.Background(), dnsname.MustParse("a.example"))
		assert.Error(t, err, body)
		server.Close()
	}
}
