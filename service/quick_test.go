package service_test

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/core/record"
	"beacon/service/hosts"
	"beacon/wire"
)

// overhear puts a provider account behind a proxy and returns what is asked there since the last call: method and last part of the path.
func (h house) overhear(account, kind, secret string) (since func() []string) {
	h.t.Helper()
	target, err := url.Parse(h.world.URL(kind))
	require.NoError(h.t, err)
	var mu sync.Mutex
	var list []string
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(target) }}
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		mu.Lock()
		list = append(list, r.Method+" "+r.URL.Path[strings.LastIndex(r.URL.Path, "/")+1:])
		mu.Unlock()
		proxy.ServeHTTP(rw, r)
	}))
	h.t.Cleanup(server.Close)
	_, err = h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: account, Role: wire.RoleProvider, Kind: kind, Address: server.URL, Secret: secret})
	require.NoError(h.t, err)
	return func() (out []string) {
		mu.Lock()
		defer mu.Unlock()
		out, list = list, nil
		return out
	}
}

// A reported address costs three requests where the provider can read one name: the zone is not read. What others changed at the name meanwhile is
// seen all the same, and then the zone is compared.
func TestReportedAddressReadsItsNameOnly(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	asked := h.overhear("heron-heard", "heron", "heron-practice-key")
	h.define("heron-heard", strings.TrimSpace(gauges(100, 1)))
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	token := h.newHost()
	require.Equal(t, dynaddr.Accepted, h.report(token, "198.51.100.7", "").Outcome)
	h.arrived()
	asked()
	require.Equal(t, dynaddr.Accepted, h.report(token, "198.51.100.8", "2001:db8::8").Outcome)
	v := h.arrived()
	assert.Equal(t, []string{"GET cam.saltmarsh-ferries.example", "POST changes", "GET cam.saltmarsh-ferries.example"}, asked())
	assert.Equal(t, "198.51.100.8 2001:db8::8", addressOf(h.live("heron")))
	assert.NotNil(t, v.Last.Arrivals[0].WrittenAt)

	h.byHand("heron", set(t, "cam", record.A, "203.0.113.66"))
	asked()
	require.Equal(t, dynaddr.Accepted, h.report(token, "198.51.100.9", "").Outcome)
	h.arrived()
	assert.Contains(t, asked(), "GET sets", "another hand is judged by the whole zone")
	assert.Equal(t, "198.51.100.9 2001:db8::8", addressOf(h.live("heron")))
	list, err := h.Syncs.Differences(ctx, access.Service, zone, false)
	require.NoError(t, err)
	assert.Empty(t, list[0].Steps)
	assert.Empty(t, list[0].Drift)
}

// Whatever others write at the names of hosts, and whatever goes wrong at the provider: the newest report is there in the end, and what is beside it stays.
func TestReportedAddressesAmongOtherHands(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1\nalias 60 CNAME cam\npier 60 TXT \"north\"")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	random := rand.New(rand.NewPCG(4, 12))
	tokens := map[string]string{}
	for _, label := range []string{"cam", "gauge"} {
		name, err := zone.Child(label)
		require.NoError(t, err)
		added, err := h.Hosts.AddHost(ctx, access.Service, wire.NewHost{Name: name, V4: true, Policy: steady})
		require.NoError(t, err)
		tokens[label] = added.Token
	}
	last := map[string]string{}
	for round := range 14 {
		for label, token := range tokens {
			last[label] = fmt.Sprintf("198.51.100.%d", 1+random.IntN(250))
			_, err := h.reportWith(token, hosts.AddressReport{Said: url.Values{"v4": {last[label]}}})
			require.NoError(t, err)
			what := random.IntN(5)
			if what < 2 { // no trouble for the other hand
				h.fault(`{"site": "4.1"}`)
			}
			switch what {
			case 0:
				h.byHand("heron", set(t, label, record.A, "203.0.113.66"))
			case 1:
				h.byHand("heron", set(t, label, record.TXT, record.Data(fmt.Sprintf(`"%d"`, round))))
			case 2:
				h.fault(`{"site": "4.1", "cut_after": true, "count": 1, "writes": true}`)
			case 3:
				h.fault(`{"site": "4.1", "lie": 1, "count": 2}`)
			}
		}
	}
	h.fault(`{"site": "4.1"}`)
	require.Eventually(t, func() bool {
		live := h.live("heron")
		for label := range tokens {
			name := dnsname.MustParse(label + "." + zone.String())
			if set := live.Get(record.Key{Name: name, Type: record.A}); len(set.Data) != 1 || string(set.Data[0]) != last[label] {
				// A hand that came after the last report stays until it is looked at: the report is repeated, as hosts do.
				_, err := h.reportWith(tokens[label], hosts.AddressReport{Said: url.Values{"v4": {fmt.Sprintf("198.51.100.%d", 1+random.IntN(250))}}})
				require.NoError(t, err)
				_, err = h.reportWith(tokens[label], hosts.AddressReport{Said: url.Values{"v4": {last[label]}}})
				require.NoError(t, err)
				return false
			}
		}
		return true
	}, 2*time.Minute, 500*time.Millisecond)
	live := h.live("heron")
	assert.Len(t, live.Get(record.Key{Name: dnsname.MustParse("alias." + zone.String()), Type: record.CNAME}).Data, 1)
	assert.Len(t, live.Get(record.Key{Name: dnsname.MustParse("pier." + zone.String()), Type: record.TXT}).Data, 1)
}

// A report is seen to be visible though the nameservers were silent when it was written, and nobody reports again.
func TestReportIsSeenLater(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	token := h.newHost()
	silence := func(silent bool) {
		for i := range 8 {
			h.fault(fmt.Sprintf(`{"site": "4.%d", "silent": %v}`, 11+i, silent))
		}
	}
	silence(true)
	require.Equal(t, dynaddr.Accepted, h.report(token, "198.51.100.7", "").Outcome)
	require.Eventually(t, func() bool {
		list, err := h.Overview.Syncs(ctx, access.Service, zone)
		require.NoError(t, err)
		return len(list) > 0 && list[0].State == wire.SyncDone && strings.Contains(list[0].Message, "not seen")
	}, 2*time.Minute, 20*time.Millisecond, "written, and not seen")
	silence(false)
	h.arrived()
}
