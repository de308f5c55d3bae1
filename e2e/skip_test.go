package e2e

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// moves begins to move three domains of a signed practice world whose delegations live in caches for ttl seconds, for half of that and for a
// fifth, and returns the stage.
func moves(t *testing.T, ttl int) (*asker, []string) {
	opt := options(t, 60, "")
	opt.Signed = true
	s := stage(t, opt)
	a := signedIn(t, s)
	ctx := context.Background()
	var domains []string
	for i, part := range []int{1, 2, 5} {
		domain := fmt.Sprintf("skip-%d.example", i)
		domains = append(domains, domain)
		require.NoError(t, s.Host(ctx, domain, []byte("@ 60 A 192.0.2.1\nwww 60 A 192.0.2.1\n")))
		require.NoError(t, s.Control(ctx, "/zone-ttl", map[string]any{"provider": "plover", "zone": domain, "ttl": 60}))
		require.NoError(t, s.Control(ctx, "/delegation-ttl", map[string]any{"domain": domain, "ttl": ttl / part}))
		a.define(fmt.Sprintf("zones:\n  %s:\n    providers: [heron-main]\n    registrar: gannet-main\n    ttl: 60\n    records: |\n      @ A 192.0.2.1\n      www A 192.0.2.1\n", domain))
	}
	for _, domain := range domains {
		a.synced(a.sync(domain))
	}
	for _, domain := range domains {
		a.ask("POST", "/domains/"+domain+"/checks", nil, nil) // the caches are filled
	}
	for _, domain := range domains {
		a.done("/domains/"+domain+"/delegations", map[string]any{})
		a.ask("POST", "/domains/"+domain+"/checks", nil, nil)
	}
	return a, domains
}

var figures = regexp.MustCompile(`\d{4}-\d\d-\d\d|\d\d:\d\d(:\d\d)?|\d+(\.\d+)? ?(s|ms|min|h|d)\b`)

// events returns what the logbook says that was seen of the domains since they were moved, in order, without times.
func (a *asker) events(domains []string) (list []string) {
	var page struct {
		Items []struct{ Action, Subject, Detail string }
	}
	a.ask("GET", "/logbook?limit=500", nil, &page)
	for _, e := range slices.Backward(page.Items) {
		name, seen := strings.TrimSuffix(e.Subject, "."), strings.HasPrefix(e.Action, "domain.")
		if slices.Contains(domains, name) && seen && !strings.Contains(e.Detail, "not checked yet") {
			list = append(list, e.Action+" "+name+": "+figures.ReplaceAllString(e.Detail, "N"))
		}
	}
	return list
}

func (a *asker) allSettled(domains []string) bool {
	for _, domain := range domains {
		var report struct{ Verdict string }
		a.ask("GET", "/domains/"+domain+"/report", nil, &report)
		if report.Verdict != "settled" {
			return false
		}
	}
	return true
}

// The same moves in two worlds alike: one waits at sixty times real time until all is settled, one skips. What happens, and in which order, is
// the same. Two days of TTL are skipped where there is time for the world that waits; ten minutes else.
func TestSkippedTimeMissesNothing(t *testing.T) {
	t.Parallel()
	ttl := 600
	if soak() {
		ttl = 2 * 24 * 3600
	}
	var waited, skipped []string
	var both sync.WaitGroup
	waiting, domains := moves(t, ttl)
	skipping, _ := moves(t, ttl)
	wait := func() {
		until := time.Now().Add(time.Duration(ttl)*time.Second/60 + time.Minute)
		for !waiting.allSettled(domains) {
			if !assert.True(t, time.Now().Before(until), "not settled") {
				return
			}
			time.Sleep(200 * time.Millisecond)
		}
		waited = waiting.events(domains)
	}
	skip := func() {
		var now struct {
			World   time.Time
			Reached bool
		}
		skipping.ask("GET", "/clock", nil, &now)
		until, began, steps := now.World.Add(time.Duration(ttl+61)*time.Second), time.Now(), 0
		for ; !now.Reached; steps++ {
			skipping.ask("POST", "/clock/steps", map[string]any{"until": until}, &now)
		}
		t.Logf("%d s of simulated time skipped in %.1f s, in %d steps", ttl, time.Since(began).Seconds(), steps)
		assert.True(t, skipping.allSettled(domains), "settled")
		skipped = skipping.events(domains)
	}
	if soak() { // one after the other, for the figure
		skip()
		wait()
	} else {
		both.Go(skip)
		both.Go(wait)
		both.Wait()
	}
	verdicts := func(list []string) []string {
		return slices.DeleteFunc(slices.Clone(list), func(s string) bool { return !strings.HasPrefix(s, "domain.verdict") })
	}
	assert.Len(t, verdicts(skipped), 2*len(domains), "each domain settles again: %s", strings.Join(skipped, "\n"))
	assert.Equal(t, verdicts(waited), verdicts(skipped), "in the same order")
	assert.Contains(t, strings.Join(skipped, "\n"), "harbour, lighthouse, sextant: old through", "what lay between was seen")
	for _, domain := range domains {
		of := func(list []string) []string {
			return slices.DeleteFunc(slices.Clone(list), func(s string) bool { return !strings.Contains(s, " "+domain+": ") })
		}
		if soak() { // a world that waits, on a machine that stands still for a second, sees nothing for a minute
			assert.Equal(t, of(waited), of(skipped), domain)
		}
	}
}
