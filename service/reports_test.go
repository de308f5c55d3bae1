package service_test

import (
	"fmt"
	"net/netip"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/service/hosts"
	"beacon/wire"
)

// reportAtOnce lets hosts of one zone report at the same time, each its own next address, and gives what went wrong and how long it took.
func (h house) reportAtOnce(clients, each int) (wrong []error, took time.Duration) {
	tokens := make([]string, clients)
	for i := range tokens {
		added, err := h.Hosts.AddHost(ctx, wire.NewHost{Name: dnsname.MustParse(fmt.Sprintf("h%d.%s", i, zone)), V4: true})
		require.NoError(h.t, err)
		tokens[i] = added.Token
	}
	var mu sync.Mutex
	var all sync.WaitGroup
	begin := time.Now()
	for i, token := range tokens {
		all.Go(func() {
			for n := range each {
				address := netip.AddrFrom4([4]byte{198, 51, 100, byte(1 + (i+n)%250)})
				d, err := h.Hosts.Report(ctx, token, hosts.AddressReport{V4: address.String()})
				if err == nil && d.Outcome != dynaddr.Accepted {
					err = fmt.Errorf("%s: %s", d.Outcome, d.Reason)
				}
				if err != nil {
					mu.Lock()
					wrong = append(wrong, err)
					mu.Unlock()
				}
			}
		})
	}
	all.Wait()
	return wrong, time.Since(begin)
}

// Hosts of one zone report at once, and each is taken: none is turned away because another one reports.
func TestReportsAtOnce(t *testing.T) {
	clients, each := 32, 5
	if os.Getenv("BEACON_SPEED") != "" {
		each = 60
	}
	h := newHouse(t)
	h.define("heron-main, curlew-ops", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Account: "heron-main"}).State)
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Account: "curlew-ops"}).State)
	wrong, took := h.reportAtOnce(clients, each)
	t.Logf("%d reports of %d hosts of one zone at once: %.0f reports/s, %d refused", clients*each, clients, float64(clients*each)/took.Seconds(), len(wrong))
	assert.Empty(t, wrong)
}
