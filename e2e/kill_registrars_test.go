package e2e

import (
	"context"
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

	"beacon/profile/profiletest"
)

// The process is killed while each request of a change is on its way to a registrar: before the registrar read it, and after it did what was asked.
// The next process ends the act, and the registrar made each change once. Without BEACON_SOAK at the registrar with confirmations only.
func TestKilledAtRegistrars(t *testing.T) {
	t.Parallel()
	opt := options(t, 60, fmt.Sprintf("lease: %s\nrequest_timeout: 500ms\n", lease))
	require.NoError(t, os.MkdirAll(filepath.Join(opt.Dir, "profiles"), 0o700))
	kinds := []string{"fulmar"}
	if soak() {
		kinds = []string{"fulmar", "petrel", "tern"}
	}
	for _, kind := range kinds {
		text, err := os.ReadFile("../profile/testdata/examples/" + kind + ".profile.yaml")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(opt.Dir, "profiles", kind+".profile.yaml"), text, 0o600))
	}
	s := stage(t, opt)
	a := signedIn(t, s)
	const domain = "saltmarsh-ferries.example"
	sets := [][]string{{"quay-11.heron.test", "quay-13.heron.test"}, {"quay-15.heron.test", "quay-17.heron.test"}}
	for _, kind := range kinds {
		office := profiletest.NewOffice(domain)
		var mu sync.Mutex
		killAt, how, writes := 0, 0, 0
		killed := make(chan struct{}, 1)
		server := httptest.NewServer(office.Serve(kind, func(r *http.Request) int {
			mu.Lock()
			defer mu.Unlock()
			if r.Method == http.MethodGet || kind == "tern" && r.FormValue("command") != "set-ns" {
				return 0
			}
			if writes++; writes == killAt {
				s.KillService()
				killed <- struct{}{}
				return how
			}
			return 0
		}))
		t.Cleanup(server.Close)
		account := map[string]any{"name": kind + "-main", "role": "registrar", "kind": kind, "address": server.URL, "parts": map[string]string{"user": "harbour-desk", "password": kind + "-test-word"}}
		if kind == "petrel" {
			delete(account, "parts")
			account["secret"] = "petrel-test-word"
		}
		a.ask("POST", "/accounts", account, nil)
		a.define("zones:\n  " + domain + ":\n    providers: [heron-main]\n    registrar: " + kind + "-main\n    records: |\n      @ A 192.0.2.1\n")
		a.synced(a.sync(domain))
		changes := 0
		move := func(at, way int) int {
			mu.Lock()
			writes, killAt, how = 0, at, way
			mu.Unlock()
			slices.Reverse(sets)
			var act struct {
				ID             uint64
				State, Message string
			}
			a.ask("POST", "/domains/"+domain+"/delegations", map[string]any{"nameservers": sets[0], "override": []string{"sides-differ", "nameserver-not-assigned"}, "reason": "a test"}, &act)
			if at > 0 {
				select {
				case <-killed:
				case <-time.After(30 * time.Second):
					require.Fail(t, "the request was not made", "%s: %d", kind, at)
				}
				require.NoError(t, s.StartService(context.Background()))
			}
			require.Eventually(t, func() bool {
				a.ask("GET", fmt.Sprintf("/acts/%d", act.ID), nil, &act)
				return act.State == "done" || act.State == "failed" || act.State == "blocked"
			}, time.Minute, 50*time.Millisecond)
			what := fmt.Sprintf("%s, killed at request %d, way %d", kind, at, way)
			require.Equal(t, "done", act.State, "%s: %s", what, act.Message)
			changes++
			assert.Len(t, office.Journal(), changes, "%s: %v", what, office.Journal())
			mu.Lock()
			defer mu.Unlock()
			return writes
		}
		each := move(0, 0)
		require.Positive(t, each)
		for at := 1; at <= each; at++ {
			for way := 1; way <= 2; way++ {
				move(at, way)
			}
		}
		t.Logf("%s: %d kills, %d changes, each made once", kind, 2*each, changes)
	}
}
