package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
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

	"beacon/demo"
)

// killing stands between the service and a provider or registrar, and kills the service at each request that changes something there, once: before it is passed on, or after its
// answer came, which the service then never gets.
type killing struct {
	s      *demo.Stage
	after  bool
	mu     sync.Mutex
	killed map[string]bool // by what the request is; nil where none is killed
	dead   chan string
}

func (k *killing) proxy(t *testing.T, site string) string {
	target, err := url.Parse(k.s.Site(site))
	require.NoError(t, err)
	pass := httputil.NewSingleHostReverseProxy(target)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		r.Body = io.NopCloser(strings.NewReader(string(body)))
		r.Host = target.Host
		what := site + " " + r.Method + " " + r.URL.Path + " " + string(body)
		k.mu.Lock()
		first := k.killed != nil && r.Method != http.MethodGet && !k.killed[what]
		if first {
			k.killed[what] = true
		}
		k.mu.Unlock()
		if !first {
			pass.ServeHTTP(w, r)
			return
		}
		if k.after {
			pass.ServeHTTP(httptest.NewRecorder(), r)
		}
		k.s.KillService()
		k.dead <- what
	}))
	t.Cleanup(server.Close)
	return server.URL
}

// A domain moves from one provider to another, and the service is killed at each request of the handover that changes something outside: before it had its effect, and in a
// second handover after it. The handover comes to its end each time, and the registrar was asked for each change once. In the soak the domain is signed.
func TestKillAtEachRequestOfAHandover(t *testing.T) {
	t.Parallel()
	want, ways := []string{"save", "activate"}, []bool{true}
	if soak() {
		want, ways = []string{"ds", "save", "activate", "ds"}, []bool{false, true, false, true}
	}
	opt := options(t, 60, "lease: "+lease.String()+"\nrequest_timeout: 500ms\nchecks: {settling: 3m, settled: 1h, margin: 10s}\n")
	opt.Signed = soak()
	s := stage(t, opt)
	ctx := context.Background()
	m := mover{signedIn(t, s), rand.New(rand.NewPCG(1, 0)), 1}
	k := &killing{s: s, dead: make(chan string, 1)}
	for _, a := range []map[string]any{
		{"name": "heron-far", "role": "provider", "kind": "heron", "address": k.proxy(t, "heron"), "secret": "heron-practice-key"},
		{"name": "curlew-far", "role": "provider", "kind": "curlew", "address": k.proxy(t, "curlew"), "secret": "desk:curlew-practice-key"},
		{"name": "gannet-far", "role": "registrar", "kind": "gannet", "address": k.proxy(t, "gannet"), "secret": "gannet-practice-key"},
	} {
		m.ask("POST", "/accounts", a, nil)
	}
	require.NoError(t, s.Host(ctx, moved, []byte("@ 60 A 192.0.2.1\nwww 60 A 192.0.2.1\n")))
	m.define("zones:\n  tides.example:\n    providers: [heron-far]\n    registrar: gannet-far\n    ttl: 60\n    records: |\n      @ A 192.0.2.1\n      www A 192.0.2.1\n")
	m.synced(m.syncAt(moved, "heron-far"))
	m.done("/domains/"+moved+"/delegations", m.move(false))
	if soak() {
		for _, at := range []string{"heron", "curlew"} {
			require.NoError(t, s.Control(ctx, "/signing", map[string]any{"zone": moved + ".", "at": at}))
		}
		m.done("/domains/"+moved+"/ds-changes", map[string]any{"remove": false})
	}
	for round, after := range ways {
		k.arm(after)
		before := m.journal()
		to := []string{"curlew-far", "heron-far"}[round%2]
		var h handoverState
		m.ask("POST", "/domains/"+moved+"/handovers", map[string]any{"to": to, "sign": soak(), "grace": 0, "allow": []string{"remove-ds", "delegate", "add-ds", "retire"}}, &h)
		var kills []string
		for deadline := time.Now().Add(3 * time.Minute); ; {
			select {
			case what := <-k.dead:
				kills = append(kills, what)
				require.NoError(t, s.StartService(ctx))
				continue
			default:
			}
			if !m.asksSoftly("GET", "/domains/"+moved+"/handover", nil, &h) { // it was killed just now
				time.Sleep(5 * time.Millisecond)
				continue
			}
			if h.State == "done" {
				break
			}
			require.True(t, time.Now().Before(deadline), "%v: %+v", kills, h)
			if h.Doing == "" && len(h.Wait) > 0 && h.Wait[0].Until != "" {
				m.asksSoftly("POST", "/clock/steps", map[string]any{"until": h.Wait[0].Until}, nil)
			}
			time.Sleep(20 * time.Millisecond)
		}
		k.disarm()
		var asked []string
		for _, line := range m.journal()[len(before):] {
			asked = append(asked, strings.Fields(line)[0])
		}
		assert.Equal(t, want, asked, "killed at %v", kills)
		assert.GreaterOrEqual(t, len(kills), 5)
		t.Logf("to %s, killed %s: %d kills, at %q", to, map[bool]string{false: "before each request", true: "after each request"}[after], len(kills), kills)
	}
}

func (k *killing) arm(after bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.killed, k.after = map[string]bool{}, after
}

func (k *killing) disarm() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.killed = nil
}

// asksSoftly asks a service that may be killed just now, and reports whether it answered.
func (a *asker) asksSoftly(method, path string, body, into any) bool {
	sent, err := json.Marshal(body)
	require.NoError(a.t, err)
	req, err := http.NewRequest(method, a.stage.Address()+"/api/v1"+path, bytes.NewReader(sent))
	require.NoError(a.t, err)
	req.Header.Set("Authorization", "Bearer "+a.token)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return false
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return false
	}
	return into == nil || json.NewDecoder(res.Body).Decode(into) == nil
}

// In the soak: a signed domain moves to and fro, and the service is killed at its first commit, after the next start at its second, and so on, before a commit is passed on or
// after it. The handovers come to their end, and the registrar was asked for each change once.
func TestKillAtEachCommitOfAHandover(t *testing.T) {
	t.Parallel()
	if !soak() {
		t.Skip("takes minutes; the kills at each request are its short form")
	}
	opt := options(t, 60, "lease: "+lease.String()+"\nrequest_timeout: 500ms\nchecks: {settling: 3m, settled: 1h, margin: 10s}\n")
	opt.Signed = true
	s := stage(t, opt)
	ctx := context.Background()
	m := mover{signedIn(t, s), rand.New(rand.NewPCG(1, 0)), 1}
	require.NoError(t, s.Host(ctx, moved, []byte("@ 60 A 192.0.2.1\nwww 60 A 192.0.2.1\n")))
	m.define("zones:\n  tides.example:\n    providers: [heron-main]\n    registrar: gannet-main\n    ttl: 60\n    records: |\n      @ A 192.0.2.1\n      www A 192.0.2.1\n")
	m.synced(m.syncAt(moved, "heron-main"))
	m.done("/domains/"+moved+"/delegations", m.move(false))
	for _, at := range []string{"heron", "curlew"} {
		require.NoError(t, s.Control(ctx, "/signing", map[string]any{"zone": moved + ".", "at": at}))
	}
	m.done("/domains/"+moved+"/ds-changes", map[string]any{"remove": false})

	p := throughProxy(t, s)
	var mu sync.Mutex
	commits, at, after, armed := 0, 1, false, false
	dead := make(chan bool, 1)
	p.onCommit(func(passed bool) {
		mu.Lock()
		defer mu.Unlock()
		if !armed {
			return
		}
		if !passed {
			commits++
		}
		if commits == at && passed == after {
			armed = false
			s.KillService()
			dead <- true
		}
	})
	require.NoError(t, s.StartService(ctx))
	kills, to := 0, "curlew-ops"
	for round := range 4 {
		before := m.journal()
		var h handoverState
		m.ask("POST", "/domains/"+moved+"/handovers", map[string]any{"to": to, "sign": true, "grace": 0, "allow": []string{"remove-ds", "delegate", "add-ds", "retire"}}, &h)
		mu.Lock()
		commits, at, after, armed = 0, 1, round%2 == 1, true
		mu.Unlock()
		for deadline := time.Now().Add(15 * time.Minute); ; {
			select {
			case <-dead:
				kills++
				require.NoError(t, s.StartService(ctx))
				mu.Lock()
				commits, at, armed = 0, at+1, true
				mu.Unlock()
				continue
			default:
			}
			if m.asksSoftly("GET", "/domains/"+moved+"/handover", nil, &h) {
				if h.State == "done" {
					break
				}
				if h.Doing == "" && len(h.Wait) > 0 && h.Wait[0].Until != "" {
					m.asksSoftly("POST", "/clock/steps", map[string]any{"until": h.Wait[0].Until}, nil)
				}
			}
			require.True(t, time.Now().Before(deadline), "after %d kills: %+v", kills, h)
			time.Sleep(10 * time.Millisecond)
		}
		mu.Lock()
		armed = false
		mu.Unlock()
		select {
		case <-dead:
			require.NoError(t, s.StartService(ctx))
		default:
		}
		var asked []string
		for _, line := range m.journal()[len(before):] {
			asked = append(asked, strings.Fields(line)[0])
		}
		assert.Equal(t, []string{"ds", "save", "activate", "ds"}, asked, "round %d", round)
		t.Logf("round %d: %d kills so far, the last at commit %d after a start", round, kills, at)
		to = map[string]string{"curlew-ops": "heron-main", "heron-main": "curlew-ops"}[to]
	}
}
