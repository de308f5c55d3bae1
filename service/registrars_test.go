package service_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/profile/profiletest"
	"beacon/service"
	"beacon/wire"
)

// registrarCredentials are those of the registrars of an office.
var registrarCredentials = map[string]wire.NewAccount{
	"fulmar": {Parts: map[string]string{"user": "harbour-desk", "password": "fulmar-test-word"}},
	"petrel": {Secret: "petrel-test-word"},
	"tern":   {Parts: map[string]string{"user": "harbour-desk", "password": "tern-test-word"}},
}

// newHouseWithExamples is a house that also knows the example profiles.
func newHouseWithExamples(t *testing.T) house {
	t.Helper()
	folder := t.TempDir()
	for _, pattern := range []string{"../demo/profiles/*.profile.yaml", "../profile/testdata/examples/*.profile.yaml"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, file := range files {
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(folder, filepath.Base(file)), text, 0o600))
		}
	}
	return newHouseWith(t, func(s *service.Settings) { s.Profiles = folder })
}

// A change of nameservers ends right at registrars of every kind, whichever of its requests is lost, before or after it was read; and each
// change was made once.
func TestChangesAtRegistrarsAreMadeOnce(t *testing.T) {
	t.Parallel()
	h := newHouseWithExamples(t)
	h.register()
	for kind, n := range registrarCredentials {
		office := profiletest.NewOffice("saltmarsh-ferries.example")
		var mu sync.Mutex
		lose, how, writes := 0, 0, 0 // which of the requests that change something is lost, and how
		server := httptest.NewServer(office.Serve(kind, func(r *http.Request) int {
			mu.Lock()
			defer mu.Unlock()
			if r.Method == http.MethodGet || kind == "tern" && r.FormValue("command") != "set-ns" {
				return 0
			}
			if writes++; writes == lose {
				return how
			}
			return 0
		}))
		t.Cleanup(server.Close)
		n.Name, n.Role, n.Kind, n.Address = kind+"-main", wire.RoleRegistrar, kind, server.URL
		require.Eventually(t, func() bool { // the first expressions of a test start their workers, which may take longer than a request has
			_, err := h.Accounts.AddAccount(ctx, access.Service, n)
			return err == nil
		}, 2*time.Minute, 100*time.Millisecond, kind)
		text := "zones:\n  saltmarsh-ferries.example:\n    providers: [heron-main]\n    registrar: " + kind + "-main\n    records: |\n      @ A 192.0.2.1\n"
		_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "test.beacon.yaml", Text: text}}})
		require.NoError(t, err)
		require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
		changes := 0
		move := func(list []string, what string) {
			act := h.delegate(wire.DelegateRequest{Nameservers: list, Override: []string{"sides-differ", "nameserver-not-assigned"}, Reason: "a test"})
			require.Equal(t, wire.ActDone, act.State, "%s: %s", what, act.Message)
			changes++
			assert.Len(t, office.Journal(), changes, "%s: %v", what, office.Journal())
			assert.Len(t, office.Nameservers("saltmarsh-ferries.example"), len(list))
		}
		sets := [][]string{{"quay-11.heron.test", "quay-13.heron.test"}, {"quay-15.heron.test", "quay-17.heron.test"}}
		move(sets[0], kind)
		mu.Lock()
		each := writes
		mu.Unlock()
		require.Positive(t, each)
		for lost := 1; lost <= each; lost++ {
			for _, way := range []int{1, 2} {
				mu.Lock()
				writes, lose, how = 0, lost, way
				mu.Unlock()
				slices.Reverse(sets)
				move(sets[0], fmt.Sprintf("%s, request %d lost %d", kind, lost, way))
			}
		}
		t.Logf("%s: %d changes, each once", kind, changes)
	}
}
