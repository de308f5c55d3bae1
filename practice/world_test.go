package practice_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/practice"
	"beacon/practice/practicetest"
)

// call makes one HTTP request and gives status, headers and body.
func call(t *testing.T, method, url, body string, headers ...string) (int, http.Header, string) {
	t.Helper()
	req, err := http.NewRequest(method, url, bytes.NewReader([]byte(body)))
	require.NoError(t, err)
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, res.Header, string(text)
}

func ask(t *testing.T, network, address, name string, qtype uint16) *dns.Msg {
	t.Helper()
	q := new(dns.Msg).SetQuestion(name, qtype)
	q.SetEdns0(1232, false)
	m, _, err := (&dns.Client{Net: network, Timeout: 3 * time.Second}).Exchange(q, address)
	require.NoError(t, err)
	return m
}

// ferries makes saltmarsh-ferries.example at Plover, with an address, and registers it there.
func ferries(t *testing.T, w *practice.World, address string) {
	t.Helper()
	key := []string{"Authorization", "Plover plover-practice-key"}
	url := w.URL("plover") + "/dns/zones/saltmarsh-ferries.example."
	status, _, text := call(t, "PUT", url, "", key...)
	require.Equal(t, 201, status, text)
	var zone struct{ Hosts []string }
	require.NoError(t, json.Unmarshal([]byte(text), &zone))
	_, h, _ := call(t, "GET", url+"/file", "", key...)
	status, _, text = call(t, "PUT", url+"/file", "@ 60 A "+address+"\nwww 60 CNAME @\n*.pier 60 A 192.0.2.7\n", append(key, "If-Match", h.Get("ETag"))...)
	require.Equal(t, 204, status, text)
	require.NoError(t, w.Register("saltmarsh-ferries.example", zone.Hosts, 90))
}

func TestChainFromRootToResolvers(t *testing.T) {
	w := practicetest.Start(t, 60)
	ferries(t, w, "192.0.2.1")
	referral := ask(t, "udp", w.DNSAddress("0.1"), "saltmarsh-ferries.example.", dns.TypeA)
	assert.False(t, referral.Authoritative)
	assert.Len(t, referral.Ns, 2, "the root refers to the two servers of example")
	for _, network := range []string{"udp", "tcp"} {
		parent := ask(t, network, w.DNSAddress("1.1"), "saltmarsh-ferries.example.", dns.TypeNS)
		require.Len(t, parent.Ns, 2)
		assert.EqualValues(t, 90, parent.Ns[0].Header().Ttl)
	}
	assert.Equal(t, dns.RcodeNameError, ask(t, "udp", w.DNSAddress("1.2"), "nobody.example.", dns.TypeA).Rcode)
	for _, r := range w.Resolvers() {
		m := ask(t, "udp", r.Address, "www.saltmarsh-ferries.example.", dns.TypeA)
		require.Len(t, m.Answer, 2, r.Name)
		assert.Equal(t, "192.0.2.1", m.Answer[1].(*dns.A).A.String())
		m = ask(t, "udp", r.Address, "nothing.saltmarsh-ferries.example.", dns.TypeA)
		assert.Equal(t, dns.RcodeNameError, m.Rcode)
		require.Len(t, m.Ns, 1)
		assert.Contains(t, m.Ns[0].(*dns.SOA).Ns, "plover.test.")
		m = ask(t, "udp", r.Address, "any.pier.saltmarsh-ferries.example.", dns.TypeA)
		assert.Len(t, m.Answer, 1, "a wildcard answers")
	}
}

func TestResolversCacheForTheTTL(t *testing.T) {
	w := practicetest.Start(t, 60)
	ferries(t, w, "192.0.2.1")
	r := w.Resolvers()[0]
	filled := w.Now() // at the earliest
	ask(t, "udp", r.Address, "saltmarsh-ferries.example.", dns.TypeA)
	key := []string{"Authorization", "Plover plover-practice-key"}
	url := w.URL("plover") + "/dns/zones/saltmarsh-ferries.example./file"
	_, h, _ := call(t, "GET", url, "", key...)
	call(t, "PUT", url, "@ 60 A 192.0.2.2\n", append(key, "If-Match", h.Get("ETag"))...)
	var changed time.Time
	for changed.IsZero() {
		before := w.Now()
		m := ask(t, "udp", r.Address, "saltmarsh-ferries.example.", dns.TypeA)
		if m.Answer[0].(*dns.A).A.String() == "192.0.2.2" {
			changed = before
		}
		require.Less(t, w.Now().Sub(filled), 5*time.Minute, "the old answer stays too long")
	}
	assert.GreaterOrEqual(t, w.Now().Sub(filled), 60*time.Second, "the old answer went before its TTL had run out")
}

func TestRegistrarNeedsActivation(t *testing.T) {
	w := practicetest.Start(t, 1)
	ferries(t, w, "192.0.2.1")
	key := []string{"Authorization", "Bearer gannet-practice-key"}
	url := w.URL("gannet") + "/registrations/saltmarsh-ferries.example"
	status, _, text := call(t, "PUT", url+"/hosts", `{"hosts":["quay-11.heron.test","quay-13.heron.test."]}`, key...)
	require.Equal(t, 200, status, text)
	parent := func() string {
		return ask(t, "udp", w.DNSAddress("1.2"), "saltmarsh-ferries.example.", dns.TypeNS).Ns[0].(*dns.NS).Ns
	}
	assert.Contains(t, parent(), "plover", "stored is not in force")
	status, _, _ = call(t, "POST", url+"/hosts/activate", "", key...)
	require.Equal(t, 200, status)
	assert.Contains(t, parent(), "heron")
	status, _, _ = call(t, "PUT", url+"/hosts", `{"hosts":["a.heron.test","a.heron.test."]}`, key...)
	assert.Equal(t, 422, status)
}

func TestPloverRefusesStaleReplacement(t *testing.T) {
	w := practicetest.Start(t, 1)
	ferries(t, w, "192.0.2.1")
	key := []string{"Authorization", "Plover plover-practice-key"}
	url := w.URL("plover") + "/dns/zones/saltmarsh-ferries.example./file"
	status, _, _ := call(t, "PUT", url, "", append(key, "If-Match", `"stale"`)...)
	assert.Equal(t, 412, status)
	status, _, _ = call(t, "PUT", url, "", key...)
	assert.Equal(t, 428, status)
	status, _, _ = call(t, "GET", url, "", "Authorization", "Plover wrong")
	assert.Equal(t, 401, status)
}

func TestHeronZonesDifferInOneCharacter(t *testing.T) {
	w := practicetest.Start(t, 1)
	var sets [2]string
	for i, name := range []string{"one.example", "two.example"} {
		status, _, text := call(t, "POST", w.URL("heron")+"/v1/zones", `{"domain":"`+name+`"}`, "Heron-Key", "heron-practice-key")
		require.Equal(t, 201, status, text)
		sets[i] = text[strings.Index(text, "served_by"):]
	}
	assert.NotEqual(t, sets[0], sets[1])
	assert.Len(t, sets[1], len(sets[0]))
}

func TestFaults(t *testing.T) {
	w := practicetest.Start(t, 1)
	status, _, _ := call(t, "POST", w.URL("control")+"/faults", `{"site":"4.1","status":429,"count":1}`)
	require.Equal(t, 204, status)
	status, h, _ := call(t, "GET", w.URL("heron")+"/v1/zones", "", "Heron-Key", "heron-practice-key")
	assert.Equal(t, 429, status)
	assert.NotEmpty(t, h.Get("Retry-After"))
	status, _, _ = call(t, "GET", w.URL("heron")+"/v1/zones", "", "Heron-Key", "heron-practice-key")
	assert.Equal(t, 200, status, "the fault was for one request")
}

func TestStateIsKept(t *testing.T) {
	file := filepath.Join(t.TempDir(), "world.json")
	opt := practice.Options{Net: 59, DNSPort: 31053, HTTPPort: 31080, Rate: 30, StateFile: file}
	w, err := practice.Start(opt)
	require.NoError(t, err)
	ferries(t, w, "192.0.2.1")
	then := w.Now()
	w.Close()
	w, err = practice.Start(opt)
	require.NoError(t, err)
	defer w.Close()
	assert.True(t, w.Now().After(then), "world time goes on, it does not begin again")
	m := ask(t, "udp", w.Resolvers()[1].Address, "saltmarsh-ferries.example.", dns.TypeA)
	assert.Len(t, m.Answer, 1)
}

// At Plover the apex can follow another name: its nameservers answer with that name's addresses.
func TestApexFollowsAtPlover(t *testing.T) {
	w := practicetest.Start(t, 60)
	ferries(t, w, "192.0.2.1")
	key := []string{"Authorization", "Plover plover-practice-key"}
	url := w.URL("plover") + "/dns/zones/tidepool.example."
	status, _, text := call(t, "PUT", url, "", key...)
	require.Equal(t, 201, status, text)
	put := func(file string) (int, string) {
		_, h, _ := call(t, "GET", url+"/file", "", key...)
		status, _, text := call(t, "PUT", url+"/file", file, append(key, "If-Match", h.Get("ETag"))...)
		return status, text
	}
	status, text = put("$TTL 300\n@ FOLLOW www.saltmarsh-ferries.example.\n@ MX 0 .\n")
	require.Equal(t, 204, status, text)
	_, _, file := call(t, "GET", url+"/file", "", key...)
	assert.Contains(t, file, "tidepool.example. 300 IN FOLLOW www.saltmarsh-ferries.example.")
	require.NoError(t, w.Register("tidepool.example", []string{"reed-11.plover.test.", "reed-12.plover.test."}, 90))
	for _, r := range w.Resolvers() {
		m := ask(t, "udp", r.Address, "tidepool.example.", dns.TypeA)
		if assert.Len(t, m.Answer, 1, r.Name) {
			assert.Equal(t, "192.0.2.1", m.Answer[0].(*dns.A).A.String())
		}
	}
	for _, bad := range []string{"www FOLLOW a.b.\n", "@ FOLLOW a.b.\n@ FOLLOW c.d.\n", "@ FOLLOW a.b\n", "@ 60 FOLLOW a.b.\n@ 60 A 192.0.2.1\n"} {
		status, text = put(bad)
		assert.Equal(t, 400, status, bad+text)
	}
}
