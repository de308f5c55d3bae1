package service_test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/service"
	"beacon/service/check"
	"beacon/wire"
)

// What a vantage point sees stands beside what is seen here; a registry's word about a registration counts where no registrar's account is
// known; and either may be out of reach without the check failing.
func TestPlacesAndRegistries(t *testing.T) {
	t.Parallel()
	var north wire.SweepRequest
	place := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "/api/v1/sweeps", r.URL.Path)
		if r.Header.Get("Authorization") != "Bearer lantern" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		assert.NoError(t, json.NewDecoder(r.Body).Decode(&north))
		there := evidence.Sweep{Domain: north.Domain, Parents: []evidence.ParentAnswer{{Answer: evidence.Silent, Problem: "time-out"}}}
		assert.NoError(t, json.NewEncoder(w).Encode(there))
	}))
	defer place.Close()
	registry := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasSuffix(r.URL.Path, "/domain/north-pier.example") {
			w.WriteHeader(http.StatusNotFound)
			return
		}
		_, _ = w.Write([]byte(`{"objectClassName":"domain","status":["client hold"],"events":[{"eventAction":"expiration","eventDate":"2000-01-02T03:04:05Z"}]}`))
	}))
	defer registry.Close()
	token := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(token, []byte("lantern\n"), 0o600))
	h := newHouseWith(t, func(s *service.Settings) {
		s.VantagePoints = []check.VantageSettings{{Name: "north", Address: place.URL, TokenFile: token}, {Name: "nowhere", Address: "http://127.0.0.1:9", TokenFile: token}}
		s.RDAP = []check.RDAPSettings{{Zone: "example", Address: registry.URL}}
	})
	h.register()
	report, err := h.Checks.Check(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, zone, north.Domain)
	require.Len(t, report.Places, 2)
	assert.Equal(t, "time-out", report.Places[0].Parents[0].Problem)
	assert.Contains(t, report.Places[1].Problem, "does not answer")
	assert.Contains(t, codes(report.Findings), "vantage-point-silent")
	assert.Equal(t, delegation.Settled, report.Verdict, "%v", report.Findings)

	require.NoError(t, h.world.Register("north-pier.example", []string{"reed-11.plover.test", "reed-14.plover.test"}, 120))
	report, err = h.Checks.Check(ctx, access.Service, dnsname.MustParse("north-pier.example"))
	require.NoError(t, err)
	assert.Subset(t, codes(report.Findings), []string{"registration-on-hold", "registration-expired"})

	require.NoError(t, os.WriteFile(token, []byte("other"), 0o600))
	report, err = h.Checks.Check(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Contains(t, report.Places[0].Problem, "401")

	sweep, err := h.Checks.Sweep(ctx, access.Service, wire.SweepRequest{Domain: zone})
	require.NoError(t, err)
	assert.Len(t, sweep.Servers, 2, "and this instance can be one for others")
	_, err = h.Checks.Sweep(ctx, access.Service, wire.SweepRequest{})
	assert.Error(t, err)
}
