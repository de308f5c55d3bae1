package reporter

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/practice"
	"beacon/practice/practicetest"
	"beacon/reach"
)

// setRouter changes the router of a world, and returns how it is then.
func setRouter(t *testing.T, w *practice.World, settings map[string]any) (now map[string]any) {
	t.Helper()
	body, err := json.Marshal(settings)
	require.NoError(t, err)
	req, err := http.NewRequest(http.MethodPut, w.URL("control")+"/router", bytes.NewReader(body))
	require.NoError(t, err)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, http.StatusOK, res.StatusCode)
	require.NoError(t, json.NewDecoder(res.Body).Decode(&now))
	return now
}

// A router says its address over NAT-PMP, or over PCP by a mapping that is taken back; one that is down says that it has none, and one that says nothing leaves it open.
func TestRouters(t *testing.T) {
	t.Parallel()
	w := practicetest.Start(t, 1)
	r := New(Options{Door: reach.Loopback()})
	ask := func() (netip.Addr, error) {
		return r.find(context.Background(), From{Router, w.RouterAddress()}, true, netip.Addr{})
	}
	for _, c := range []struct {
		speaks, address string
		translated      bool
		want            string
		fails           string
	}{
		{"both", "198.51.100.20", false, "198.51.100.20", ""}, {"natpmp", "198.51.100.21", false, "198.51.100.21", ""}, {"pcp", "198.51.100.22", false, "198.51.100.22", ""},
		{"natpmp", "198.51.100.23", true, "100.64.100.23", ""}, {"pcp", "198.51.100.23", true, "100.64.100.23", ""}, {"natpmp", "", false, "", ""}, {"pcp", "", false, "", ""},
		{"nothing", "198.51.100.24", false, "", "it does not answer"},
	} {
		setRouter(t, w, map[string]any{"address": c.address, "speaks": c.speaks, "translated": c.translated})
		a, err := ask()
		if c.fails != "" {
			require.ErrorIs(t, err, errUnknown)
			assert.ErrorContains(t, err, c.fails)
			continue
		}
		require.NoError(t, err, "%+v", c)
		want, _ := netip.ParseAddr(c.want)
		assert.Equal(t, want, a, "%+v", c)
		now := setRouter(t, w, map[string]any{"address": c.address, "speaks": c.speaks, "translated": c.translated})
		assert.EqualValues(t, 0, now["mappings"], "a mapping is taken back: %+v", c)
	}
	setRouter(t, w, map[string]any{"address": "198.51.100.25", "speaks": "both"})
	seen, err := r.find(context.Background(), From{Web, w.URL("router")}, true, netip.Addr{})
	require.NoError(t, err)
	assert.Equal(t, netip.MustParseAddr("198.51.100.25"), seen, "what another service sees")
}

// What a router announces is reported at once; announcements of others are passed over.
func TestAnnouncements(t *testing.T) {
	t.Parallel()
	w := practicetest.Start(t, 1)
	at := netip.MustParseAddrPort(w.DNSAddress("12.9"))
	e := newEar(t)
	started(t, Options{Address: e.URL, V4: From{Router, w.RouterAddress()}, Announcements: at}, nil)
	e.hears(t, 8*time.Second, map[string]string{"v4": "198.51.100.20"})
	setRouter(t, w, map[string]any{"address": "198.51.100.21", "speaks": "both", "announce": at.String()})
	took := e.hears(t, 2*time.Second, map[string]string{"v4": "198.51.100.21"})
	t.Logf("measured: another address of the router is reported after %v", took.Round(time.Millisecond))
	setRouter(t, w, map[string]any{"address": "198.51.100.22", "speaks": "pcp", "announce": at.String()})
	e.hears(t, 5*time.Second, map[string]string{"v4": "198.51.100.22"})
}
