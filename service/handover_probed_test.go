package service_test

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/handover"
	"beacon/practice"
	"beacon/practice/practicetest"
	"beacon/provider"
	"beacon/service"
	"beacon/service/check"
	"beacon/wire"
)

// probed is a domain that resolvers are asked about while it moves.
type probed struct {
	name   dnsname.Name
	signed bool
	asked  int
	wrong  []string
}

// moves is a world with domains at Heron, each with mail, a wildcard, an empty non-terminal and a zone below it, half of them signed.
type moves struct {
	house
	domains []*probed
	mu      sync.Mutex
}

func newMoves(t *testing.T, count int) *moves {
	w := practicetest.StartWith(t, practice.Options{Rate: 60, Signed: true})
	m := &moves{house: newHouseIn(t, w, func(s *service.Settings, _ string) {
		s.DNS.TrustAnchors = filepath.Join(t.TempDir(), "anchors")
		s.Checks = check.CheckSettings{Settling: 5 * time.Minute, Settled: time.Hour, Margin: time.Minute}
		require.NoError(t, os.WriteFile(s.DNS.TrustAnchors, []byte(w.Anchor()), 0o600))
	})}
	for i := range count {
		p := &probed{name: dnsname.MustParse(fmt.Sprintf("drift-%d.example", i)), signed: i%2 == 1}
		m.domains = append(m.domains, p)
		pier := m.hostedAtPlover("pier."+p.name.String(), "@ 300 A 192.0.2.7\n")
		text := "zones:\n  " + p.name.String() + ":\n    providers: [heron-main]\n    registrar: gannet-main\n    ttl: 300\n    records: |\n      @ A 192.0.2.1\n      @ MX 10 mail.post.example.\n      " +
			"*.quay A 192.0.2.3\n      deep.below.empty A 192.0.2.4\n"
		for _, ns := range pier {
			text += "      pier NS " + ns.String() + "\n"
		}
		m.apply(text)
		m.syncOf(p.name)
		require.NoError(t, w.Register(p.name.String(), m.assigned(p.name), 600))
		if p.signed {
			m.control("/signing", map[string]any{"zone": p.name.String(), "at": "heron"})
			act := m.finished(m.Delegations.ChangeDS(ctx, access.Service, wire.DSRequest{Domain: p.name}))
			require.Equal(t, wire.ActDone, act.State, act.Message)
		}
	}
	return m
}

func (m *moves) apply(text string) {
	m.t.Helper()
	_, err := m.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "moves.beacon.yaml", Text: text}}})
	require.NoError(m.t, err)
}

func (m *moves) syncOf(name dnsname.Name) {
	m.t.Helper()
	list, err := m.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: name})
	require.NoError(m.t, err)
	for _, v := range list {
		require.Equal(m.t, wire.SyncDone, m.ended(v.ID).State)
	}
}

// assigned returns the nameservers of the only placement of a zone.
func (m *moves) assigned(name dnsname.Name) (list []string) {
	m.t.Helper()
	v, err := m.Overview.Zone(ctx, access.Service, name)
	require.NoError(m.t, err)
	for _, n := range v.Placements[0].Nameservers {
		list = append(list, n.String())
	}
	return list
}

// hostedAtPlover puts a zone at Plover that is not managed here, and returns its nameservers.
func (m *moves) hostedAtPlover(name, records string) []dnsname.Name {
	m.t.Helper()
	z, err := m.direct("plover").Create(ctx, dnsname.MustParse(name), provider.ZoneOptions{})
	require.NoError(m.t, err)
	url := m.world.URL("plover") + "/dns/zones/" + name + "/file"
	send := func(method, tag, body string) *http.Response {
		r, err := http.NewRequest(method, url, strings.NewReader(body))
		require.NoError(m.t, err)
		r.Header.Set("Authorization", "Plover plover-practice-key")
		r.Header.Set("If-Match", tag)
		res, err := http.DefaultClient.Do(r)
		require.NoError(m.t, err)
		text, _ := io.ReadAll(res.Body)
		require.NoError(m.t, res.Body.Close())
		require.Less(m.t, res.StatusCode, 300, "%s", text)
		return res
	}
	send("PUT", send("GET", "", "").Header.Get("ETag"), records)
	return z.Nameservers
}

// probe asks every resolver for what must be answered all the time: mail, a name below a wildcard, an empty non-terminal, a name below a cut, and one that does not exist.
func (m *moves) probe(p *probed) {
	at := p.name.String()
	var group sync.WaitGroup
	for _, r := range append(m.world.Resolvers(), m.world.OddResolvers()...) {
		group.Go(func() {
			client := dns.Client{Timeout: 2 * time.Second}
			for _, q := range []struct {
				name  string
				qtype uint16
				rcode int
				want  string // in the answer; empty for no data
			}{
				{at, dns.TypeMX, dns.RcodeSuccess, "10 mail.post.example."},
				{"east.quay." + at, dns.TypeA, dns.RcodeSuccess, "192.0.2.3"},
				{"below.empty." + at, dns.TypeA, dns.RcodeSuccess, ""},
				{"pier." + at, dns.TypeA, dns.RcodeSuccess, "192.0.2.7"},
				{"nothing." + at, dns.TypeA, dns.RcodeNameError, ""},
			} {
				ask := new(dns.Msg).SetQuestion(q.name, q.qtype)
				res, _, err := client.Exchange(ask, r.Address)
				if err != nil { // once more: a packet may be lost on a machine that stalls
					res, _, err = client.Exchange(ask, r.Address)
				}
				m.mu.Lock()
				p.asked++
				if why := wrong(res, err, q.rcode, q.want); why != "" {
					p.wrong = append(p.wrong, fmt.Sprintf("%s %s: %s %s: %s", m.now().Format(time.TimeOnly), r.Name, q.name, dns.TypeToString[q.qtype], why))
				}
				m.mu.Unlock()
			}
		})
	}
	group.Wait()
}

func wrong(res *dns.Msg, err error, rcode int, want string) string {
	switch {
	case err != nil:
		return err.Error()
	case res.Rcode != rcode:
		return dns.RcodeToString[res.Rcode]
	case want == "" && len(res.Answer) == 0:
		return ""
	}
	for _, rr := range res.Answer {
		if want != "" && strings.HasSuffix(rr.String(), want) {
			return ""
		}
	}
	return fmt.Sprint(res.Answer)
}

// around is how long before and after each act and each computed moment the world runs at its own pace, and is asked every five seconds of it.
var around = 5 * time.Minute

// atMost is the TTL of the records, which are asked for once in it.
const atMost = 300 * time.Second

// follow lets the world go on until done says so, and asks all the while: every five simulated seconds around moments, else once in each TTL of the records.
func (m *moves) follow(moments func() []time.Time, done func() bool) {
	for deadline := time.Now().Add(10 * time.Minute); !done(); {
		if !time.Now().Before(deadline) {
			list, _ := m.views()
			require.Fail(m.t, "it does not end", "%+v", list)
		}
		now := m.now()
		begun := time.Now()
		var group sync.WaitGroup
		for _, p := range m.domains {
			group.Go(func() { m.probe(p) })
		}
		group.Wait()
		near, next := false, now.Add(atMost)
		for _, at := range moments() {
			near = near || !at.IsZero() && at.Sub(now).Abs() <= around
			if early := at.Add(-around); early.After(now) && early.Before(next) {
				next = early
			}
		}
		if near {
			time.Sleep(time.Until(begun.Add(5 * time.Second / 60)))
			continue
		}
		_, err := m.StepClock(ctx, access.Service, next)
		require.NoError(m.t, err)
	}
}

// views returns the handovers, and the moments that matter in them.
func (m *moves) views() (list []wire.Handover, moments []time.Time) {
	for _, p := range m.domains {
		v, err := m.Handover.Show(ctx, access.Service, p.name)
		require.NoError(m.t, err)
		list = append(list, v)
		for _, e := range v.Report {
			if !strings.HasPrefix(e.Text, "Allowed") {
				moments = append(moments, e.At)
			}
		}
		for _, w := range v.Wait {
			moments = append(moments, w.Until)
		}
	}
	return list, moments
}

// Domains move from Heron to Curlew, signed ones with their DS out and in, and every resolver of the world is asked for their names all the while: no answer is wrong. In the
// soak these are 30 domains, five at a time; else two, asked less often.
func TestHandoversAreSeenByNobody(t *testing.T) {
	t.Parallel()
	batches, each := 1, 2
	if os.Getenv("BEACON_SOAK") != "" {
		batches, each = 6, 5
	} else {
		around = 10 * time.Second
	}
	asked := 0
	for range batches {
		m := newMoves(t, each)
		grace := int64(1800)
		for _, p := range m.domains {
			_, err := m.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: p.name, To: "curlew-ops", Sign: p.signed, Grace: &grace, Allow: handover.Consent()})
			require.NoError(t, err)
			if p.signed {
				require.Eventually(t, func() bool {
					_, there, err := provider.FindZone(ctx, m.direct("curlew"), p.name)
					return err == nil && there
				}, 2*time.Minute, 20*time.Millisecond)
				m.control("/signing", map[string]any{"zone": p.name.String(), "at": "curlew"})
			}
		}
		m.follow(func() []time.Time { _, moments := m.views(); return moments }, func() bool {
			list, _ := m.views()
			for _, v := range list {
				if v.State != wire.HandoverDone {
					return false
				}
			}
			return true
		})
		for _, p := range m.domains {
			v, err := m.Handover.Show(ctx, access.Service, p.name)
			require.NoError(t, err)
			assert.Empty(t, p.wrong, "%s: %+v", p.name, v.Report)
			asked += p.asked
			report, err := m.Checks.Check(ctx, access.Service, p.name)
			require.NoError(t, err)
			assert.Equal(t, p.signed, string(report.DNSSEC) == "secure", p.name.String())
		}
		m.stop()
	}
	t.Logf("%d handovers, %d answers, none wrong", batches*each, asked)
}

// The same domains switched at once, with the DS left in and the old zone removed, do lose answers: what asks notices it.
func TestNaiveSwitchesAreSeen(t *testing.T) {
	t.Parallel()
	m := newMoves(t, 2)
	for _, p := range m.domains {
		m.probe(p)
		assert.Empty(t, p.wrong)
		z, err := m.direct("curlew").Create(ctx, p.name, provider.ZoneOptions{})
		require.NoError(t, err)
		var hosts []string
		for _, n := range z.Nameservers {
			hosts = append(hosts, n.String())
		}
		m.control("/domains", map[string]any{"domain": strings.TrimSuffix(p.name.String(), "."), "hosts": hosts})
	}
	until := m.now().Add(20 * time.Minute)
	m.follow(func() []time.Time { return nil }, func() bool { return m.now().After(until) })
	for _, p := range m.domains {
		assert.NotEmpty(t, p.wrong, p.name.String())
	}
}
