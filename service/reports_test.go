package service_test

import (
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/api"
	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/wire"
)

// steady is the policy of a host whose changes are never held.
var steady = dynaddr.Policy{HoldDown: new(uint32)}

// reportAtOnce lets hosts of one zone report over HTTP at the same time, each its own next address, and returns how often each answer came
// and how long it took.
func (h house) reportAtOnce(clients, each int) (answers map[string]int, took time.Duration) {
	tokens := make([]string, clients)
	for i := range tokens {
		added, err := h.Hosts.AddHost(ctx, access.Service, wire.NewHost{Name: dnsname.MustParse(fmt.Sprintf("h%d.%s", i, zone)), V4: true, Policy: steady})
		require.NoError(h.t, err)
		tokens[i] = added.Token
	}
	server := httptest.NewServer(api.New(h.Service, slog.New(slog.DiscardHandler)))
	defer server.Close()
	report := func(token, address string) string {
		req, err := http.NewRequest("GET", server.URL+api.Base+"/report?v4="+address, nil)
		if err != nil {
			return err.Error()
		}
		req.Header.Set("Authorization", "Bearer "+token)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return err.Error()
		}
		defer res.Body.Close()
		line, err := io.ReadAll(res.Body)
		return fmt.Sprint(res.StatusCode, " ", strings.Replace(string(line), address, "ADDRESS", 1), err)
	}
	answers = map[string]int{}
	var mu sync.Mutex
	var all sync.WaitGroup
	begin := time.Now()
	for i, token := range tokens {
		all.Go(func() {
			for n := range each {
				answer := report(token, fmt.Sprintf("198.51.100.%d", 1+(i+n)%250))
				mu.Lock()
				answers[answer]++
				mu.Unlock()
			}
		})
	}
	all.Wait()
	return answers, time.Since(begin)
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
	answers, took := h.reportAtOnce(clients, each)
	t.Logf("%d reports of %d hosts of one zone at once: %.0f reports/s", clients*each, clients, float64(clients*each)/took.Seconds())
	assert.Equal(t, map[string]int{"200 accepted ADDRESS\n<nil>": clients * each}, answers)
}
