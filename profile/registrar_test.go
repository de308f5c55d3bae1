package profile_test

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/checklist"
	"beacon/core/dnsname"
	"beacon/demo/profiles"
	"beacon/practice/practicetest"
	"beacon/profile"
	"beacon/profile/jq/jqtest"
	"beacon/registrar/conform"
)

// registrarOf makes a driver of a practice registrar's profile.
func registrarOf(t testing.TB, kind, base, key string) *profile.Registrar {
	t.Helper()
	all, faulty, err := profile.LoadAll(profiles.Files)
	require.NoError(t, err)
	require.Empty(t, faulty)
	return profile.NewRegistrar(all[kind], profile.NewRuntime(jqtest.Pool(t)), client(base, key))
}

// registrarPasses makes the conformance run of a registrar, and wants at least so many checks to pass and none to fail.
func registrarPasses(t *testing.T, s conform.Subject, atLeast int) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	passed := 0
	for _, r := range conform.Run(ctx, s, nil) {
		assert.NotEqual(t, checklist.Failed, r.Outcome, "%s: %s", r.Check, r.Detail)
		if r.Outcome == checklist.Passed {
			passed++
		}
	}
	assert.GreaterOrEqual(t, passed, atLeast, "checks that passed")
}

func TestGannetConforms(t *testing.T) {
	t.Parallel()
	w := practicetest.Start(t, 1)
	require.NoError(t, w.Register("scratch.example", []string{"a.plover.test", "b.plover.test"}, 0))
	for i := range 60 { // more than a page
		require.NoError(t, w.Register("extra-"+string(rune('a'+i%26))+string(rune('a'+i/26))+".example", []string{"a.plover.test", "b.plover.test"}, 0))
	}
	registrarPasses(t, conform.Subject{Driver: registrarOf(t, "gannet", w.URL("gannet"), "gannet-practice-key"),
		WrongKey: registrarOf(t, "gannet", w.URL("gannet"), "gannet-wrong-key"), Secret: "gannet-wrong-key",
		Domain: dnsname.MustParse("scratch.example"), Other: []dnsname.Name{dnsname.MustParse("quay-11.heron.test"), dnsname.MustParse("quay-13.heron.test")}}, 12)
}

func TestSkuaConforms(t *testing.T) {
	t.Parallel()
	w := practicetest.Start(t, 60)
	call := func(path, body string) {
		res, err := http.Post(w.URL("control")+path, "application/json", strings.NewReader(body))
		require.NoError(t, err)
		res.Body.Close()
		require.Equal(t, http.StatusNoContent, res.StatusCode)
	}
	call("/domains", `{"domain":"scratch.example","hosts":["moor-11.whimbrel.test","moor-12.whimbrel.test"],"registrar":"skua"}`)
	registrarPasses(t, conform.Subject{Driver: registrarOf(t, "skua", w.URL("skua"), "skua-practice-key"),
		WrongKey: registrarOf(t, "skua", w.URL("skua"), "skua-wrong-key"), Secret: "skua-wrong-key",
		Domain: dnsname.MustParse("scratch.example"), Other: []dnsname.Name{dnsname.MustParse("quay-11.heron.test"), dnsname.MustParse("quay-13.heron.test")}}, 9)
}

func TestNonsenseOfRegistrarsIsAnError(t *testing.T) {
	for _, body := range []string{"", "[]", `{"domain":"a..b"}`, `{"domain":"a.example","stored_hosts":["x..y"]}`, `{"domain":"a.example","hosts_in_force":["x..y"]}`,
		`{"domain":"b.example"}`, `{"domain":"a.example","registered_until":"soon"}`} {
		server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(rw, body) }))
		_, err := registrarOf(t, "gannet", server.URL, "some-key").Look(context.Background(), dnsname.MustParse("a.example"))
		assert.Error(t, err, body)
		server.Close()
	}
}
