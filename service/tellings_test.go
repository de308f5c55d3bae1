package service_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/delegation"
	"beacon/core/dynaddr"
	"beacon/service"
	"beacon/service/check"
	"beacon/service/notify"
	"beacon/tell"
	"beacon/wire"
)

// A webhook is told of each verdict that lasts, once: a refused delivery is repeated with the same id, what nobody need know is not told,
// and what was told is not told again. A registration that ends soon is told once, though the verdict stays.
func TestTelling(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	var words []tell.Word
	var refused []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		assert.Equal(t, tell.Sign([]byte("lantern"), r.Header.Get(tell.HeaderTime), body), r.Header.Get(tell.HeaderSignature))
		if len(refused) == 0 {
			refused = append(refused, r.Header.Get(tell.HeaderID))
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		var word tell.Word
		assert.NoError(t, json.Unmarshal(body, &word))
		assert.Equal(t, word.ID, r.Header.Get(tell.HeaderID))
		words = append(words, word)
	}))
	defer server.Close()
	var ends atomic.Pointer[time.Time]
	registry := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = fmt.Fprintf(w, `{"objectClassName":"domain","events":[{"eventAction":"expiration","eventDate":%q}]}`, ends.Load().Format(time.RFC3339))
	}))
	defer registry.Close()
	far := time.Now().AddDate(3, 0, 0)
	ends.Store(&far)
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("lantern\n"), 0o600))
	h := newHouseWith(t, func(s *service.Settings) {
		s.Notifications = notify.Settings{Delay: 300 * time.Millisecond, Hooks: []notify.HookSettings{{Name: "night-watch", Address: server.URL, SecretFile: secret}}}
		s.RDAP = []check.RDAPSettings{{Zone: "example", Address: registry.URL}}
	})
	told := func() []tell.Word {
		mu.Lock()
		defer mu.Unlock()
		return append([]tell.Word(nil), words...)
	}
	h.register()
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "test.beacon.yaml", Text: "zones:\n  saltmarsh-ferries.example:\n    providers: [plover-old]\n    records: |\n      @ A 192.0.2.1\n"}}})
	require.NoError(t, err)
	report, err := h.Checks.Check(ctx, access.Service, zone)
	require.NoError(t, err)
	require.Equal(t, delegation.Settled, report.Verdict)
	time.Sleep(time.Second)
	assert.Empty(t, told(), "that all is well from the start is no news")

	soon := report.CheckedAt.Add(9 * 24 * time.Hour)
	ends.Store(&soon)
	for range 2 {
		report, err = h.Checks.Check(ctx, access.Service, zone)
		require.NoError(t, err)
		require.Equal(t, delegation.Settled, report.Verdict)
		require.Eventually(t, func() bool { return len(told()) == 1 }, 2*time.Minute, 100*time.Millisecond)
	}
	if word := told()[0]; assert.Len(t, word.Deadlines, 1) {
		assert.Equal(t, "registration-ends-soon", word.Deadlines[0].Code)
		assert.Equal(t, []string{word.ID}, refused, "each attempt has the same id")
	}

	h.fault(`{"site":"5.11","silent":true}`)
	h.fault(`{"site":"5.14","silent":true}`)
	report, err = h.Checks.Check(ctx, access.Service, zone)
	require.NoError(t, err)
	require.Equal(t, delegation.NeedsAction, report.Verdict)
	require.Eventually(t, func() bool { return len(told()) == 2 }, 2*time.Minute, 100*time.Millisecond)
	word := told()[1]
	assert.Equal(t, delegation.NeedsAction, word.Verdict)
	assert.Equal(t, delegation.Settled, word.Before)
	assert.Equal(t, "saltmarsh-ferries.example", word.Domain)
	assert.Contains(t, codes(word.Findings), "nameserver-silent")
	assert.Empty(t, word.Deadlines, "that was told before")

	_, err = h.Checks.Check(ctx, access.Service, zone)
	require.NoError(t, err)
	time.Sleep(time.Second)
	assert.Len(t, told(), 2, "nothing is told twice")
	require.NoError(t, h.Notify.TryChannel(ctx, access.Service, "night-watch"))
	assert.True(t, told()[2].Test)
	assert.Error(t, h.Notify.TryChannel(ctx, access.Service, "nobody"))
}

// Who is told of a domain is told of each dynamic host in it that falls silent, once.
func TestSilenceIsTold(t *testing.T) {
	t.Parallel()
	words := make(chan tell.Word, 10)
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var word tell.Word
		assert.NoError(t, json.NewDecoder(r.Body).Decode(&word))
		words <- word
	}))
	defer server.Close()
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("lantern\n"), 0o600))
	h := newHouseWith(t, func(s *service.Settings) {
		s.Notifications = notify.Settings{Delay: 10 * time.Millisecond, Hooks: []notify.HookSettings{{Name: "night-watch", Address: server.URL, SecretFile: secret}}}
	})
	h.define("heron-main", "@ A 192.0.2.1")
	silence := uint32(3600)
	tokens := h.located(dynaddr.Policy{Silence: &silence}, "main")
	h.says(tokens["main"], "v4=198.51.100.7&prefix=2001:db8:40::/56")
	h.skips(2 * time.Hour)
	var word tell.Word
	require.Eventually(t, func() bool {
		select {
		case word = <-words:
		default:
		}
		return len(word.Silent) == 2
	}, 2*time.Minute, 10*time.Millisecond)
	assert.Equal(t, []string{"cam.saltmarsh-ferries.example", "gauge.saltmarsh-ferries.example"}, word.Silent)
	assert.Contains(t, word.Subject(), "cam.saltmarsh-ferries.example is silent and 1 more")
	assert.Contains(t, word.Text(), "beacon host show gauge.saltmarsh-ferries.example")
}
