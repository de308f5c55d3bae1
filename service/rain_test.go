package service_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/provider"
	"beacon/wire"
)

// probe asks a nameserver for names over and over, and notes for how long each was without an answer.
type probe struct {
	mu     sync.Mutex
	server string
	since  map[string]time.Time     // without an answer now
	gaps   map[string]time.Duration // the longest, by name
	stop   chan struct{}
	wait   sync.WaitGroup
	asked  int
}

func startProbe(server string, names []string) *probe {
	p := &probe{server: server, since: map[string]time.Time{}, gaps: map[string]time.Duration{}, stop: make(chan struct{})}
	p.wait.Go(func() {
		client := dns.Client{Timeout: 500 * time.Millisecond}
		for {
			for _, name := range names {
				select {
				case <-p.stop:
					return
				default:
				}
				res, _, err := client.Exchange(new(dns.Msg).SetQuestion(name, dns.TypeA), server)
				if err == nil {
					p.note(name, len(res.Answer) > 0)
				}
			}
			time.Sleep(time.Millisecond)
		}
	})
	return p
}

func (p *probe) note(name string, answers bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.asked++
	began, without := p.since[name]
	switch {
	case !answers && !without:
		p.since[name] = time.Now()
	case answers && without:
		p.gaps[name] = max(p.gaps[name], time.Since(began))
		delete(p.since, name)
	}
}

func (p *probe) end() (gaps map[string]time.Duration, asked int) {
	close(p.stop)
	p.wait.Wait()
	for name, began := range p.since {
		p.gaps[name] = max(p.gaps[name], time.Since(began))
	}
	return p.gaps, p.asked
}

// randomZone writes a zone of names that come and go, change, and are addresses now and aliases then.
func randomZone(rng *rand.Rand) (lines string, answers map[string]bool) {
	answers = map[string]bool{}
	var b strings.Builder
	b.WriteString("@ 300 A 192.0.2.1\nweb 300 A 192.0.2.2\n")
	for i := range 12 {
		label := fmt.Sprintf("n%02d", i)
		switch rng.IntN(5) {
		case 0:
			continue
		case 1:
			fmt.Fprintf(&b, "%s 300 CNAME web\n", label)
		case 2:
			fmt.Fprintf(&b, "%s 900 A 192.0.2.%d\n%s 900 A 192.0.2.%d\n", label, rng.IntN(100), label, 100+rng.IntN(100))
		default:
			fmt.Fprintf(&b, "%s 300 A 192.0.2.%d\n", label, rng.IntN(200))
		}
		answers[label+"."+zone.String()] = true
	}
	return strings.TrimSpace(b.String()), answers
}

// With three requests in ten meeting trouble, every sync ends with live as wanted; what somebody else put there stays, and
// no name that has an answer before and after is without one in between, but where the list said so.
func TestSyncsThroughARainOfFaults(t *testing.T) {
	t.Parallel()
	syncs := 8
	if os.Getenv("BEACON_SOAK") != "" {
		syncs = 200
	}
	for kind, at := range map[string][3]string{"heron": {"heron-main", "4.1", "4.11"}, "plover": {"plover-old", "5.1", "5.11"}, "curlew": {"curlew-ops", "6.1", "6.11"}} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			h := newHouse(t)
			seed := rand.Uint64()
			rng := rand.New(rand.NewPCG(seed, 0))
			lines, before := randomZone(rng)
			h.define(at[0], lines)
			require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
			foreign := set(t, "by-hand", record.TXT, `"not ours"`)
			h.byHand(kind, foreign)
			worst, asked, gaps, requests := time.Duration(0), 0, 0, 0
			for round := range syncs {
				lines, after := randomZone(rng)
				h.define(at[0], lines)
				forced := map[string]bool{}
				list, err := h.Syncs.Differences(ctx, access.Service, zone, false)
				require.NoError(t, err)
				for _, s := range list[0].Steps {
					forced[s.Key().Name.String()] = forced[s.Key().Name.String()] || s.Gap
				}
				h.fault(fmt.Sprintf(`{"site":%q,"chance":0.3,"hang_ms":1200}`, at[1]))
				var stay []string
				for name := range before {
					if after[name] {
						stay = append(stay, name)
					}
				}
				p := startProbe(h.world.DNSAddress(at[2]), stay)
				done := h.sync(wire.SyncRequest{Allow: []string{diff.GuardNamesStop}})
				found, n := p.end()
				require.Equal(t, wire.SyncDone, done.State, "seed %d, round %d: %s %v", seed, round, done.Message, done.Findings)
				for name, gap := range found {
					if !forced[name] {
						assert.Zero(t, gap, "seed %d, round %d: %s was without an answer", seed, round, name)
					}
					worst = max(worst, gap)
					gaps++
				}
				asked, requests, before = asked+n, requests+done.Requests, after
				h.fault(fmt.Sprintf(`{"site":%q}`, at[1]))
				want := contentsOf(t, lines).With(foreign)
				assert.Equal(t, want.Records(), h.live(kind).Filter(func(k record.Key) bool { return k.Name != zone || k.Type == record.A }).Records(), "seed %d, round %d", seed, round)
				assert.Equal(t, 1, h.zonesNamed(kind), "the zone is there once")
			}
			t.Logf("%d syncs, %d requests that write; %d questions to a nameserver; %d forced gaps, the longest %s (seed %d)", syncs, requests, asked, gaps, worst.Round(time.Millisecond), seed)
		})
	}
}

func (h house) zonesNamed(kind string) (n int) {
	h.t.Helper()
	for cursor := provider.Cursor(""); ; {
		page, err := h.direct(kind).Zones(ctx, cursor)
		require.NoError(h.t, err)
		for _, z := range page.Zones {
			if z.Ref.Name == zone {
				n++
			}
		}
		if cursor = page.Next; cursor == "" {
			return n
		}
	}
}

func contentsOf(t *testing.T, lines string) record.Contents {
	t.Helper()
	var records []record.Record
	for _, line := range strings.Split(lines, "\n") {
		var label, typ, data string
		var ttl uint32
		_, err := fmt.Sscan(line, &label, &ttl, &typ, &data)
		require.NoError(t, err)
		name := zone
		if label != "@" {
			name, err = dnsname.ParseRelative(label, zone)
			require.NoError(t, err)
		}
		rt, err := record.ParseType(typ)
		require.NoError(t, err)
		d, err := record.ParseData(rt, data, zone)
		require.NoError(t, err)
		records = append(records, record.Record{Name: name, TTL: ttl, Type: rt, Data: d})
	}
	return record.NewContents(records)
}
