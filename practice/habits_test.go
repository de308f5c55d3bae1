package practice_test

import (
	"net/http"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/practice/practicetest"
)

// The three resolvers let go of an old delegation when their habits say, and no sooner: one by the parent's TTL, one by
// the child's after that, one by its own cap.
func TestResolversLetGoByTheirHabits(t *testing.T) {
	w := practicetest.Start(t, 60)
	ferries(t, w, "192.0.2.1")
	require.NoError(t, w.SetNSTTL("plover", "saltmarsh-ferries.example", 400))
	hosts := ask(t, "udp", w.DNSAddress("1.1"), "saltmarsh-ferries.example.", dns.TypeNS).Ns
	require.NoError(t, w.Register("saltmarsh-ferries.example", []string{hosts[0].(*dns.NS).Ns, hosts[1].(*dns.NS).Ns}, 600))
	key := []string{"Heron-Key", "heron-practice-key"}
	status, _, body := call(t, "POST", w.URL("heron")+"/v1/zones", `{"domain":"saltmarsh-ferries.example"}`, key...)
	require.Equal(t, http.StatusCreated, status, body)

	through := func(address string) string {
		m := ask(t, "udp", address, "p"+time.Now().Format("150405000000")+".saltmarsh-ferries.example.", 65400)
		require.Len(t, m.Ns, 1)
		return m.Ns[0].(*dns.SOA).Mbox
	}
	filled := map[string]time.Time{}
	for _, r := range w.Resolvers() {
		filled[r.Name] = w.Now()
		require.Equal(t, "hostmaster.plover.test.", through(r.Address), r.Name)
	}
	require.NoError(t, w.Register("saltmarsh-ferries.example", []string{"quay-11.heron.test", "quay-13.heron.test", "quay-15.heron.test", "quay-17.heron.test"}, 600))
	letGo := map[string]time.Duration{}
	for len(letGo) < 3 {
		for _, r := range w.Resolvers() {
			if letGo[r.Name] == 0 && through(r.Address) == "hostmaster.heron.test." {
				letGo[r.Name] = w.Now().Sub(filled[r.Name])
			}
		}
		time.Sleep(20 * time.Millisecond)
		require.Less(t, w.Now().Sub(filled["harbour"]), 1200*time.Second, "%v", letGo)
	}
	near := func(name string, want time.Duration) {
		assert.GreaterOrEqual(t, letGo[name], want-time.Second, name)
		assert.Less(t, letGo[name], want+180*time.Second, name) // a slow machine may look late
	}
	near("dinghy", 300*time.Second)
	near("harbour", 600*time.Second)
	near("lighthouse", 800*time.Second) // its second look at the child came while the parent's 600 s still held
}

func TestNameserversAnswerAsTheStandardSays(t *testing.T) {
	w := practicetest.Start(t, 1)
	ferries(t, w, "192.0.2.1")
	site := "5.11"
	for _, c := range []struct {
		name          string
		qtype         uint16
		rcode         int
		answers       int
		authoritative bool
	}{
		{"saltmarsh-ferries.example.", dns.TypeSOA, dns.RcodeSuccess, 1, true},
		{"SALTMARSH-ferries.example.", dns.TypeA, dns.RcodeSuccess, 1, true},
		{"www.saltmarsh-ferries.example.", dns.TypeA, dns.RcodeSuccess, 2, true},
		{"www.saltmarsh-ferries.example.", dns.TypeCNAME, dns.RcodeSuccess, 1, true},
		{"pier.saltmarsh-ferries.example.", dns.TypeA, dns.RcodeSuccess, 0, true}, // an empty non-terminal
		{"x.pier.saltmarsh-ferries.example.", dns.TypeA, dns.RcodeSuccess, 1, true},
		{"x.pier.saltmarsh-ferries.example.", dns.TypeMX, dns.RcodeSuccess, 0, true},
		{"none.saltmarsh-ferries.example.", dns.TypeA, dns.RcodeNameError, 0, true},
		{"elsewhere.example.", dns.TypeA, dns.RcodeRefused, 0, false},
	} {
		m := ask(t, "udp", w.DNSAddress(site), c.name, c.qtype)
		assert.Equal(t, c.rcode, m.Rcode, c.name)
		assert.Len(t, m.Answer, c.answers, "%s %s", c.name, dns.TypeToString[c.qtype])
		assert.Equal(t, c.authoritative, m.Authoritative, c.name)
		if c.authoritative && c.answers == 0 {
			require.Len(t, m.Ns, 1, c.name)
			assert.IsType(t, &dns.SOA{}, m.Ns[0])
		}
	}
}

func TestHeronRefusesWhatItMust(t *testing.T) {
	w := practicetest.Start(t, 1)
	key := []string{"Heron-Key", "heron-practice-key"}
	_, _, _ = call(t, "POST", w.URL("heron")+"/v1/zones", `{"domain":"one.example"}`, key...)
	_, _, body := call(t, "GET", w.URL("heron")+"/v1/zones", "", key...)
	id := body[len(`{"next_cursor":"","zones":[{"id":"`):][:6]
	url := w.URL("heron") + "/v1/zones/" + id + "/changes"
	for name, change := range map[string]string{
		"a TTL below its least":      `{"put":[{"label":"a","kind":"A","ttl":5,"values":["192.0.2.1"]}]}`,
		"data that is none":          `{"put":[{"label":"a","kind":"A","ttl":60,"values":["x"]}]}`,
		"a CNAME beside other data":  `{"put":[{"label":"a","kind":"A","ttl":60,"values":["192.0.2.1"]},{"label":"a","kind":"CNAME","ttl":60,"values":["b."]}]}`,
		"more than it takes at once": `{"drop":[` + repeat(`{"label":"a","kind":"A"}`, 21) + `]}`,
	} {
		status, _, text := call(t, "POST", url, change, key...)
		assert.Equal(t, http.StatusUnprocessableEntity, status, "%s: %s", name, text)
	}
	_, _, sets := call(t, "GET", w.URL("heron")+"/v1/zones/"+id+"/sets", "", key...)
	assert.Contains(t, sets, `"sets":[]`, "nothing of what was refused was done")
}

func repeat(text string, n int) string {
	out := text
	for range n - 1 {
		out += "," + text
	}
	return out
}
