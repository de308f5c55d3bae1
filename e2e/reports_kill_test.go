package e2e

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/demo"
	"beacon/wire"
)

// watching sees which addresses a nameserver answers with, in the order in which they came.
type watching struct {
	mu   sync.Mutex
	seen []string
	stop func()
}

// watch asks a nameserver for the address of a name all the time.
func watch(t *testing.T, server, name string) *watching {
	w := &watching{}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	w.stop = sync.OnceFunc(func() { cancel(); <-done })
	t.Cleanup(w.stop)
	go func() {
		defer close(done)
		client := dns.Client{Timeout: time.Second}
		for ctx.Err() == nil {
			res, _, err := client.Exchange(new(dns.Msg).SetQuestion(dns.Fqdn(name), dns.TypeA), server)
			if err == nil {
				for _, rr := range res.Answer {
					if a, ok := rr.(*dns.A); ok {
						w.note(a.A.String())
					}
				}
			}
			time.Sleep(3 * time.Millisecond)
		}
	}()
	return w
}

func (w *watching) note(address string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.seen) == 0 || w.seen[len(w.seen)-1] != address {
		w.seen = append(w.seen, address)
	}
}

// throughProxy restarts the service with a database behind a proxy.
func throughProxy(t *testing.T, s *demo.Stage) *dbProxy {
	t.Helper()
	s.KillService()
	socket := filepath.Join(s.Dir, "db", "socket")
	p := startProxy(t, socket, filepath.Join(s.Dir, "proxy"))
	file := filepath.Join(s.Dir, "beacon.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), socket, p.path, 1)), 0o600))
	return p
}

// The service is killed at each commit of a reported address, from its acceptance until it is known to be visible, and at each request that changes something at the provider: before it
// is passed on, and after it. Reports come over HTTP and as dynamic updates. None that was accepted is lost, each is written, and no older address comes back.
func TestKillAtEachCommitOfAReport(t *testing.T) {
	t.Parallel()
	s := stage(t, options(t, 60, "lease: "+lease.String()+"\nrequest_timeout: 500ms\n"))
	ctx := context.Background()
	a := signedIn(t, s)
	k := &killing{s: s, dead: make(chan string, 1)}
	a.ask("POST", "/accounts", map[string]any{"name": "heron-far", "role": "provider", "kind": "heron", "address": k.proxy(t, "heron"), "secret": "heron-practice-key"}, nil)
	a.define("zones:\n  tides.example:\n    providers: [heron-far]\n    records: |\n      @ A 192.0.2.1\n")
	a.synced(a.syncAt("tides.example", "heron-far"))
	r := gauges(a, 1)[0]
	var key wire.TSIGKeyAdded
	a.ask("POST", "/tsig-keys", map[string]any{"for": r.name}, &key)
	require.Equal(t, "accepted", r.report(t, s.Address(), "198.51.100.1"))
	r.accepted = append(r.accepted, "198.51.100.1")
	allVisible(t, a, r.name)
	var zone struct {
		Placements []struct{ Nameservers []string }
	}
	a.ask("GET", "/zones/tides.example", nil, &zone)
	number := regexp.MustCompile(`(\d+)\.heron\.test`).FindStringSubmatch(zone.Placements[0].Nameservers[0])
	require.Len(t, number, 2)
	served := watch(t, fmt.Sprintf("127.%d.4.%s:%d", s.Net, number[1], s.DNSPort), r.name)

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
	update := func(address string) bool { // one packet, which the client sends again where no answer comes
		at := strings.Replace(s.Updates(), ":", " ", 1)
		c := exec.Command("nsupdate", "-y", key.Algorithm+":"+key.Name+":"+key.Secret, "-t", "2", "-r", "0")
		c.Stdin = strings.NewReader(fmt.Sprintf("server %s\nzone tides.example\nupdate delete %s A\nupdate add %[2]s 60 A %[3]s\nsend\n", at, r.name, address))
		return c.Run() == nil
	}
	kills := 0
	revive := func() {
		select {
		case <-dead:
			kills++
			require.NoError(t, s.StartService(ctx))
		case <-k.dead:
			kills++
			require.NoError(t, s.StartService(ctx))
		default:
		}
	}
	last := 1
	// round reports the next address, and returns once it is visible.
	round := func(byUpdate bool) {
		last++
		address := netip.AddrFrom4([4]byte{198, 51, 100, byte(last)}).String()
		taken := false
		for deadline := time.Now().Add(time.Minute); ; time.Sleep(10 * time.Millisecond) {
			revive()
			switch {
			case !taken && byUpdate:
				taken = update(address)
			case !taken:
				said := r.reportOnce(t, s.Address(), address)
				taken = said == "accepted" || said == "unchanged"
			}
			var v wire.HostView
			if taken && a.asksSoftly("GET", "/hosts/"+r.name, nil, &v) {
				require.Equal(t, address, v.V4, "what was accepted is kept, after %d kills", kills)
				if v.Last != nil && len(v.Last.Arrivals) == 1 && v.Last.Arrivals[0].VisibleAt != nil {
					break
				}
			}
			require.True(t, time.Now().Before(deadline), "%s does not arrive, after %d kills, at commit %d", address, kills, at)
		}
		r.accepted = append(r.accepted, address)
	}
	most, step := 3, 2
	if soak() {
		most, step = 40, 1
	}
	for _, late := range []bool{true, false} {
		for n := 1; n <= most; n += step {
			mu.Lock()
			commits, at, after, armed = 0, n, late, true
			mu.Unlock()
			before := kills
			round(n%2 == 0 || soak() && n%4 == 1)
			mu.Lock()
			done := armed
			armed = false
			mu.Unlock()
			revive()
			if done && kills == before { // there is no such commit: it was visible before
				t.Logf("%d commits, passed on %v", n-1, late)
				break
			}
		}
		k.arm(late)
		round(false)
		k.disarm()
		revive()
	}
	assert.GreaterOrEqual(t, kills, 4)
	v := allVisible(t, a, r.name)
	var kept []string
	for _, report := range slices.Backward(v.Reports) {
		if report.Outcome == "accepted" {
			kept = append(kept, report.V4)
		}
	}
	assert.Equal(t, r.accepted, kept, "every accepted report, in order, once")
	served.stop()
	place := -1
	for _, address := range served.seen {
		i := slices.Index(r.accepted, address)
		assert.Greater(t, i, place, "an older address came back: %v", served.seen)
		place = i
	}
	assert.Equal(t, r.accepted[len(r.accepted)-1], served.seen[len(served.seen)-1])
	t.Logf("measured: %d kills, %d reports, %d addresses seen one after the other", kills, len(r.accepted), len(served.seen))
}
