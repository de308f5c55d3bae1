package registrar

import (
	"context"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
)

func TestLookUp(t *testing.T) {
	answers := map[string]string{
		"/rdap/domain/saltmarsh-ferries.example": `{"objectClassName":"domain","status":["active","client transfer prohibited"],"secureDNS":{"delegationSigned":true},
			"entities":[{"objectClassName":"entity","handle":"H1","roles":["technical"]},{"objectClassName":"entity","handle":"R7","roles":["registrar"],"vcardArray":["vcard",[["version",{},"text","4.0"],["fn",{},"text","Gannet Names"]]]}],
			"nameservers":[{"objectClassName":"nameserver","ldhName":"NS2.heron.test"},{"objectClassName":"nameserver","ldhName":"ns1.heron.test."}],
			"events":[{"eventAction":"registration","eventDate":"2020-01-02T03:04:05Z"},{"eventAction":"expiration","eventDate":"2031-01-02T03:04:05Z"}]}`,
		"/rdap/domain/no-end.example":   `{"objectClassName":"domain","status":["server hold"],"entities":[{"handle":"R9","roles":["registrar"],"vcardArray":["vcard"]}]}`,
		"/rdap/domain/host.example":     `{"objectClassName":"nameserver"}`,
		"/rdap/domain/broken.example":   `{"objectClassName":`,
		"/rdap/domain/odd-name.example": `{"objectClassName":"domain","nameservers":[{"ldhName":"ns1..test"}]}`,
		"/rdap/domain/odd-day.example":  `{"objectClassName":"domain","events":[{"eventAction":"expiration","eventDate":"next year"}]}`,
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "application/rdap+json", r.Header.Get("Accept"))
		if text, ok := answers[r.URL.Path]; ok {
			_, _ = w.Write([]byte(text))
			return
		}
		w.WriteHeader(http.StatusNotFound)
	}))
	defer server.Close()
	look := func(name string) (Entry, error) {
		return LookUp(context.Background(), server.Client(), server.URL+"/rdap/", dnsname.MustParse(name))
	}
	r, err := look("saltmarsh-ferries.example")
	require.NoError(t, err)
	assert.Equal(t, []string{"active", "client transfer prohibited"}, r.Status)
	assert.Equal(t, time.Date(2031, 1, 2, 3, 4, 5, 0, time.UTC), r.Expires)
	assert.Equal(t, []dnsname.Name{dnsname.MustParse("ns1.heron.test"), dnsname.MustParse("ns2.heron.test")}, r.Active, "what the registry lists")
	assert.Equal(t, "Gannet Names", r.Registrar)
	assert.True(t, r.Signed)
	r, err = look("no-end.example")
	require.NoError(t, err)
	assert.True(t, r.Expires.IsZero())
	assert.Equal(t, "R9", r.Registrar, "without a card the handle")
	_, err = look("nobody.example")
	assert.ErrorIs(t, err, ErrNotRegistered)
	for _, name := range []string{"host.example", "broken.example", "odd-day.example", "odd-name.example"} {
		_, err = look(name)
		assert.ErrorContains(t, err, "RDAP", name)
	}
}
