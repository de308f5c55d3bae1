package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/demo"
)

// run is one domain that moves, with its own TTLs.
type run struct {
	domain  string
	p, c, r int // seconds: delegation at the parent, NS set at the old provider, the address
	mu      sync.Mutex
	lastOld map[string]time.Time // by resolver: world time when it was last seen to give something old
	nowNew  map[string]bool
	done    time.Time // world time just after the list had been made active
}

// worldClock reads the practice world's clock by itself.
func worldClock(t *testing.T, s *demo.Stage) func() time.Time {
	t.Helper()
	res, err := http.Get(s.Site("control") + "/clock")
	require.NoError(t, err)
	defer res.Body.Close()
	var tie struct {
		Wall, World time.Time
		Rate        float64
	}
	require.NoError(t, json.NewDecoder(res.Body).Decode(&tie))
	return func() time.Time { return tie.World.Add(time.Duration(float64(time.Since(tie.Wall)) * tie.Rate)) }
}

func exchange(address, name string, qtype uint16) (*dns.Msg, error) {
	m, _, err := (&dns.Client{Timeout: 2 * time.Second}).Exchange(new(dns.Msg).SetQuestion(name, qtype), address)
	return m, err
}

// seesOld asks a resolver for the address and for a name that nobody has, and tells whether either answer is old.
func seesOld(address, domain string) (old, certain bool) {
	a, err := exchange(address, domain+".", dns.TypeA)
	if err != nil || len(a.Answer) == 0 {
		return false, false
	}
	probe, err := exchange(address, fmt.Sprintf("p%x.%s.", rand.Uint64(), domain), 65400)
	if err != nil || len(probe.Ns) == 0 {
		return false, false
	}
	return a.Answer[0].(*dns.A).A.String() == "192.0.2.1" || strings.Contains(probe.Ns[0].(*dns.SOA).Ns, "plover"), true
}

// Twenty domains with random TTLs at parent and child move at once; three caching resolvers, filled just before, are
// watched from outside. The time by which the service says that all must have let go is never before the last of them
// does, and not later than the rules make it, from the first look that saw the new set.
func TestSettlesByAgainstRealCaches(t *testing.T) {
	t.Parallel()
	const rate, poll, runs = 20, 30, 20
	s := stage(t, options(t, rate, fmt.Sprintf("checks: {settling: %ds, settled: 1h}\n", poll)))
	a := signedIn(t, s)
	now := worldClock(t, s)
	ctx := context.Background()
	seed := rand.Uint64()
	rng := rand.New(rand.NewPCG(seed, 0))
	t.Logf("seed %d", seed)

	list := make([]*run, runs)
	var definition strings.Builder
	definition.WriteString("zones:\n")
	for i := range list {
		r := &run{domain: fmt.Sprintf("pier-%02d.example", i), p: 40 + rng.IntN(200), c: 40 + rng.IntN(200), r: 30 + rng.IntN(90),
			lastOld: map[string]time.Time{}, nowNew: map[string]bool{}}
		list[i] = r
		require.NoError(t, s.Host(ctx, r.domain, []byte(fmt.Sprintf("@ %d A 192.0.2.1\nwww %d A 192.0.2.1\n", r.r, r.r))))
		require.NoError(t, s.Control(ctx, "/zone-ttl", map[string]any{"provider": "plover", "zone": r.domain, "ttl": r.c}))
		require.NoError(t, s.Control(ctx, "/delegation-ttl", map[string]any{"domain": r.domain, "ttl": r.p}))
		fmt.Fprintf(&definition, "  %s:\n    providers: [heron-main]\n    registrar: gannet-main\n    ttl: %d\n    records: |\n      @ A 192.0.2.2\n      www A 192.0.2.2\n", r.domain, r.r)
	}
	a.define(definition.String())
	var ids []int
	for _, r := range list {
		ids = append(ids, a.sync(r.domain))
	}
	for _, id := range ids {
		a.synced(id)
	}

	resolvers := map[string]string{}
	for i, name := range []string{"harbour", "lighthouse", "dinghy"} {
		resolvers[name] = fmt.Sprintf("127.%d.8.%d:%d", s.Net, i+1, s.DNSPort)
	}
	watching, stop := context.WithCancel(ctx)
	defer stop()
	var watchers sync.WaitGroup
	for _, r := range list {
		a.done("/domains/"+r.domain+"/delegations", map[string]any{"save_only": true, "override": []string{"sides-differ"}, "reason": "another web host"})
		for name, address := range resolvers {
			old, certain := seesOld(address, r.domain)
			require.True(t, old && certain, "%s was not filled with the old answers of %s", name, r.domain)
		}
		a.done("/domains/"+r.domain+"/delegations", map[string]any{"override": []string{"sides-differ"}, "reason": "another web host"})
		r.done = now()
		for name, address := range resolvers {
			watchers.Go(func() { r.watch(watching, name, address, now) })
		}
	}
	settled := func(r *run) (string, bool) {
		var report struct {
			Verdict   string
			CheckedAt time.Time  `json:"checked_at"`
			SettlesBy *time.Time `json:"settles_by"`
			Findings  []struct{ Code, Message string }
		}
		a.ask("GET", "/domains/"+r.domain+"/report", nil, &report)
		return fmt.Sprintf("%s at %s: %+v", r.domain, now().Format(time.TimeOnly), report), report.Verdict == "settled"
	}
	open := list
	for deadline := time.Now().Add(90 * time.Second); len(open) > 0; time.Sleep(500 * time.Millisecond) {
		text, ok := settled(open[0])
		if ok {
			open = open[1:]
			continue
		}
		require.True(t, time.Now().Before(deadline), "not settled within 90 s: %s", text)
	}
	stop()
	watchers.Wait()

	var closest, latest time.Duration = time.Hour, 0
	for _, r := range list {
		var report struct {
			SettlesBy time.Time `json:"settles_by"`
			Moments   []struct{ Since time.Time }
		}
		a.ask("GET", "/domains/"+r.domain+"/report", nil, &report)
		require.NotEmpty(t, report.Moments)
		since := report.Moments[0].Since // the first sweep that saw the new set everywhere: at most a poll after it was there, on a machine that keeps up
		latest = max(latest, since.Sub(r.done))
		over := report.SettlesBy.Sub(since.Add(time.Duration(r.p+r.c+r.r) * time.Second))
		assert.LessOrEqual(t, over, time.Second, "%s: p %d, c %d, r %d: the bound is later than the sum", r.domain, r.p, r.c, r.r)
		for name := range resolvers {
			assert.True(t, r.nowNew[name], "%s at %s never changed", r.domain, name)
			margin := report.SettlesBy.Sub(r.lastOld[name])
			closest = min(closest, margin)
			assert.Positive(t, margin, "%s at %s: seen old after the bound; p %d, c %d, r %d", r.domain, name, r.p, r.c, r.r)
		}
	}
	t.Logf("in world time: the last old answer came %s before its bound or earlier; the new set was seen at most %s after it was there (a poll is %d s)", closest.Round(time.Second), latest.Round(100*time.Millisecond), poll)
}

// watch asks a resolver again and again. The moment before a question counts for an old answer: it was old then.
func (r *run) watch(ctx context.Context, name, address string, now func() time.Time) {
	for ctx.Err() == nil {
		at := now()
		if old, certain := seesOld(address, r.domain); certain {
			r.mu.Lock()
			if old {
				r.lastOld[name] = at
			}
			r.nowNew[name] = !old
			r.mu.Unlock()
		}
		time.Sleep(250 * time.Millisecond)
	}
}
