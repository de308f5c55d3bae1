package profile_test

import (
	"net/http/httptest"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/profile"
	"beacon/profile/jq/jqtest"
	"beacon/profile/profiletest"
	"beacon/registrar/conform"
)

// Registrars that save, confirm, take their time, and speak in forms and XML pass the conformance run by a profile of fewer than forty lines.
func TestRegistrarShapesConform(t *testing.T) {
	pool := jqtest.Pool(t)
	for _, s := range []struct {
		name, secret, wrong, quiet string
		other                      []string
		passes                     int
	}{
		{"fulmar", parts("user", "harbour-desk", "password", "fulmar-test-word"), parts("user", "harbour-desk", "password", "fulmar-wrong-word"), "fulmar-wrong-word", []string{"quay-11.heron.test", "quay-13.heron.test"}, 14},
		{"petrel", "petrel-test-word", "petrel-wrong-word", "petrel-wrong-word", []string{"quay-11.heron.test", "quay-13.heron.test", "quay-15.heron.test", "quay-17.heron.test"}, 12},
		{"tern", parts("user", "harbour-desk", "password", "tern-test-word"), parts("user", "harbour-desk", "password", "tern-wrong-word"), "tern-wrong-word", []string{"quay-11.heron.test", "quay-13.heron.test"}, 11},
	} {
		t.Run(s.name, func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile("testdata/examples/" + s.name + ".profile.yaml")
			require.NoError(t, err)
			assert.Less(t, strings.Count(string(text), "\n"), 40)
			p, faults := profile.Load(s.name+".profile.yaml", text)
			require.Empty(t, faults)
			o := profiletest.NewOffice("scratch.example", "other.example", "third.example")
			server := httptest.NewServer(o.Serve(s.name, nil))
			t.Cleanup(server.Close)
			other, err := dnsname.ParseSet(s.other)
			require.NoError(t, err)
			runtime := profile.NewRuntime(pool)
			registrarPasses(t, conform.Subject{Driver: profile.NewRegistrar(p, runtime, client(server.URL, s.secret)), WrongKey: profile.NewRegistrar(p, runtime, client(server.URL, s.wrong)),
				Secret: s.quiet, Domain: dnsname.MustParse("scratch.example"), Other: other}, s.passes)
			assert.Zero(t, o.Open(), "no order was left open")
		})
	}
}
