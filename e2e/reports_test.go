package e2e

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/wire"
)

// reporter is one host that reports, as a reporter does: until it has an answer.
type reporter struct {
	name, token string
	accepted    []string // addresses, in the order in which they were accepted
}

// gauges adds dynamic hosts to the zone of the tides, with a token each.
func gauges(a *asker, n int) []*reporter {
	a.t.Helper()
	reporters := make([]*reporter, n)
	for i := range reporters {
		r := &reporter{name: fmt.Sprintf("gauge-%d.tides.example", i)}
		var added struct{ Token string }
		a.ask("POST", "/hosts", map[string]any{"name": r.name, "v4": true, "v6": false, "policy": map[string]any{"hold_down": 0}}, &added)
		r.token = added.Token
		reporters[i] = r
	}
	return reporters
}

func (r *reporter) report(t *testing.T, base, v4 string) string {
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(50 * time.Millisecond) {
		if said := r.reportOnce(t, base, v4); said != "" {
			return said
		}
		require.True(t, time.Now().Before(deadline), "no answer to a report")
	}
}

// reportOnce returns what became of a report; empty where it was not taken.
func (r *reporter) reportOnce(t *testing.T, base, v4 string) string {
	req, err := http.NewRequest(http.MethodPost, base+"/api/v1/report?"+url.Values{"v4": {v4}}.Encode(), nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+r.token)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return ""
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NotEqual(t, http.StatusUnprocessableEntity, res.StatusCode, string(text))
	if err != nil || res.StatusCode != http.StatusOK {
		return ""
	}
	outcome, _, _ := strings.Cut(strings.TrimSpace(string(text)), " ")
	return outcome
}

// 1,000 unchanged and 200 accepted reports from twenty hosts, while the same zone is being written as a whole and the
// service is killed twice. Whatever was answered "accepted" is kept and becomes visible, unless a newer one of the same
// host overtook it.
func TestReportsUnderLoadAndKill(t *testing.T) {
	t.Parallel()
	const hosts, each, repeats = 20, 10, 5
	s := stage(t, options(t, 60, fmt.Sprintf("lease: %s\nrequest_timeout: 500ms\n", lease)))
	a := signedIn(t, s)
	a.define("zones:\n  tides.example:\n    providers: [heron-main]\n    records: |\n      @ A 192.0.2.1\n")
	a.synced(a.sync("tides.example"))
	reporters := gauges(a, hosts)
	var piles strings.Builder
	for i := range 300 {
		fmt.Fprintf(&piles, "      pile-%d A 192.0.2.%d\n", i, i%250)
	}
	a.define("zones:\n  tides.example:\n    providers: [heron-main]\n    records: |\n      @ A 192.0.2.1\n" + piles.String())
	bulk := a.sync("tides.example")

	var unchanged, answered atomic.Int64
	var group sync.WaitGroup
	begun := time.Now()
	for i, r := range reporters {
		group.Go(func() {
			for n := range each {
				at := fmt.Sprintf("198.51.%d.%d", 100, n*hosts+i)
				switch r.report(t, s.Address(), at) {
				case "accepted":
					r.accepted = append(r.accepted, at)
				case "unchanged": // it was accepted, and the answer lost with the service
					r.accepted = append(r.accepted, at)
				}
				answered.Add(1)
				for range repeats {
					if r.report(t, s.Address(), at) == "unchanged" {
						unchanged.Add(1)
					}
					time.Sleep(20 * time.Millisecond)
				}
			}
		})
	}
	for _, share := range []int64{hosts * each / 4, hosts * each / 2} {
		require.Eventually(t, func() bool { return answered.Load() >= share }, time.Minute, 5*time.Millisecond)
		s.KillService()
		require.NoError(t, s.StartService(context.Background()))
	}
	group.Wait()
	t.Logf("%d reports answered in %.1f s, two kills and restarts included; %d of them unchanged", answered.Load()+hosts*each*repeats, time.Since(begun).Seconds(), unchanged.Load())
	assert.EqualValues(t, hosts*each*repeats, unchanged.Load(), "what was accepted is known, also after a kill")

	var accepted, written, visible []time.Duration
	overtaken := 0
	for _, r := range reporters {
		v := allVisible(t, a, r.name)
		assert.Equal(t, r.accepted[len(r.accepted)-1], v.V4)
		var kept []string
		for _, report := range slices.Backward(v.Reports) {
			kept = append(kept, report.V4)
			accepted = append(accepted, report.AcceptedAt.Sub(report.ReportedAt))
			if at := report.Arrivals[0]; at.VisibleAt == nil {
				assert.True(t, report.Overtaken)
				overtaken++
			} else {
				written, visible = append(written, at.WrittenAt.Sub(report.ReportedAt)), append(visible, at.VisibleAt.Sub(report.ReportedAt))
			}
		}
		assert.Equal(t, r.accepted, kept, "every accepted report is kept, in order, once")
	}
	a.synced(bulk)
	live, _ := targetAt(t, s, "heron").live(t)
	assert.Equal(t, 1+300+hosts, live.Len())
	for _, r := range reporters {
		there := live.At(dnsname.MustParse(r.name))
		require.Len(t, there, 1)
		assert.EqualValues(t, r.accepted[len(r.accepted)-1], there[0].Data)
	}
	t.Logf("from the report, median and 95 %%: accepted %s, written %s, visible %s; %d overtaken", spread(accepted), spread(written), spread(visible), overtaken)
}

func allVisible(t *testing.T, a *asker, name string) (v wire.HostView) {
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		a.ask("GET", "/hosts/"+name, nil, &v)
		if v.Last != nil && len(v.Last.Arrivals) == 1 && v.Last.Arrivals[0].VisibleAt != nil {
			return v
		}
		require.True(t, time.Now().Before(deadline), "%s does not arrive: %+v", name, v.Last)
	}
}

func spread(list []time.Duration) string {
	slices.Sort(list)
	return fmt.Sprintf("%d ms and %d ms", list[len(list)/2].Milliseconds(), list[len(list)*95/100].Milliseconds())
}
