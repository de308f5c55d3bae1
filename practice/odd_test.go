package practice_test

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/practice"
	"beacon/practice/practicetest"
	"beacon/reach"
	"beacon/registrar"
)

func control(t *testing.T, w *practice.World, path, body string) {
	t.Helper()
	status, _, text := call(t, "POST", w.URL("control")+path, body)
	require.Less(t, status, 300, text)
}

// later skips the world's time.
func later(t *testing.T, w *practice.World, d time.Duration) {
	control(t, w, "/clock", fmt.Sprintf(`{"skip_to":%q}`, w.Now().Add(d).Format(time.RFC3339Nano)))
}

// A resolver that asks the servers it has for their NS set stays with them for as long as they answer, whatever the parent says; one that serves
// stale answers gives what it had while no server answers.
func TestResolversThatDoNotLetGo(t *testing.T) {
	w := practicetest.Start(t, 1)
	ferries(t, w, "192.0.2.1")
	odd := map[string]string{}
	for _, r := range append(w.Resolvers(), w.OddResolvers()...) {
		odd[r.Name] = r.Address
	}
	asks := 0
	through := func(name string) string {
		asks++
		m := ask(t, "udp", odd[name], fmt.Sprintf("p%d.saltmarsh-ferries.example.", asks), 65400)
		if len(m.Ns) == 0 {
			return dns.RcodeToString[m.Rcode]
		}
		return m.Ns[0].(*dns.SOA).Mbox
	}
	for name := range odd {
		require.Equal(t, "hostmaster.plover.test.", through(name), name)
		require.Len(t, ask(t, "udp", odd[name], "saltmarsh-ferries.example.", dns.TypeA).Answer, 1, name)
	}
	key := []string{"Heron-Key", "heron-practice-key"}
	status, _, body := call(t, "POST", w.URL("heron")+"/v1/zones", `{"domain":"saltmarsh-ferries.example"}`, key...)
	require.Equal(t, http.StatusCreated, status, body)
	require.NoError(t, w.Register("saltmarsh-ferries.example", []string{"quay-11.heron.test", "quay-13.heron.test"}, 90))
	for range 3 {
		later(t, w, 48*time.Hour)
		assert.Equal(t, "hostmaster.heron.test.", through("harbour"))
		assert.Equal(t, "hostmaster.heron.test.", through("lighthouse"))
		assert.Equal(t, "hostmaster.plover.test.", through("limpet"))
	}
	status, _, _ = call(t, "DELETE", w.URL("plover")+"/dns/zones/saltmarsh-ferries.example.", "", "Authorization", "Plover plover-practice-key")
	require.Equal(t, http.StatusNoContent, status)
	later(t, w, time.Hour)
	assert.Equal(t, "hostmaster.heron.test.", through("limpet"), "the old servers do not answer any more")

	id := body[len(`{"id":"`):][:6]
	status, _, body = call(t, "POST", w.URL("heron")+"/v1/zones/"+id+"/changes", `{"put":[{"label":"www","kind":"A","ttl":60,"values":["192.0.2.9"]}]}`, key...)
	require.Equal(t, http.StatusOK, status, body)
	for _, name := range []string{"harbour", "ebb"} {
		require.Len(t, ask(t, "udp", odd[name], "www.saltmarsh-ferries.example.", dns.TypeA).Answer, 1, name)
	}
	for _, site := range []string{"4.11", "4.13", "4.15", "4.17"} {
		control(t, w, "/faults", fmt.Sprintf(`{"site":%q,"rcode":5}`, site))
	}
	later(t, w, time.Hour)
	assert.Equal(t, dns.RcodeServerFailure, ask(t, "udp", odd["harbour"], "www.saltmarsh-ferries.example.", dns.TypeA).Rcode)
	m := ask(t, "udp", odd["ebb"], "www.saltmarsh-ferries.example.", dns.TypeA)
	require.Len(t, m.Answer, 1, "RFC 8767")
	assert.EqualValues(t, 30, m.Answer[0].Header().Ttl)
	later(t, w, 25*time.Hour)
	assert.Equal(t, dns.RcodeServerFailure, ask(t, "udp", odd["ebb"], "www.saltmarsh-ferries.example.", dns.TypeA).Rcode, "a day is the longest")
}

// The validating resolver says "authentic" of what is signed down from the root, nothing of what is not signed, and refuses what is signed wrongly.
func TestTheResolverThatValidates(t *testing.T) {
	w := practicetest.StartWith(t, practice.Options{Signed: true})
	ferries(t, w, "192.0.2.1")
	at := w.OddResolvers()[2].Address
	believes := func(name string, qtype uint16) string {
		q := new(dns.Msg).SetQuestion(name, qtype)
		q.SetEdns0(1232, true)
		m, _, err := (&dns.Client{Timeout: 3 * time.Second}).Exchange(q, at)
		require.NoError(t, err)
		q.CheckingDisabled = true
		unchecked, _, err := (&dns.Client{Timeout: 3 * time.Second}).Exchange(q, at)
		require.NoError(t, err)
		switch {
		case m.Rcode == dns.RcodeServerFailure && unchecked.Rcode != dns.RcodeServerFailure:
			require.NotEmpty(t, m.IsEdns0().Option)
			assert.EqualValues(t, dns.ExtendedErrorCodeDNSBogus, m.IsEdns0().Option[0].(*dns.EDNS0_EDE).InfoCode)
			return "bogus"
		case m.AuthenticatedData:
			return "secure"
		}
		return "insecure"
	}
	const zone = "saltmarsh-ferries.example"
	assert.Equal(t, "insecure", believes("www."+zone+".", dns.TypeA))
	ds, err := w.Sign(zone, "", false, false, false)
	require.NoError(t, err)
	require.NoError(t, w.SetDS(zone, ds...))
	later(t, w, 2*time.Hour)
	for _, q := range []struct {
		name  string
		qtype uint16
		want  string
	}{
		{"www." + zone + ".", dns.TypeA, "secure"}, {"nothing." + zone + ".", dns.TypeA, "secure"}, {zone + ".", dns.TypeMX, "secure"}, {"east.pier." + zone + ".", dns.TypeA, "secure"},
		{"pier." + zone + ".", dns.TypeA, "secure"}, {zone + ".", dns.TypeDNSKEY, "secure"}, {zone + ".", dns.TypeDS, "secure"}, {"example.", dns.TypeSOA, "secure"}, {".", dns.TypeNS, "secure"},
		{"nobody.test.", dns.TypeA, "secure"}, {"quay-11.heron.test.", dns.TypeA, "insecure"},
	} {
		assert.Equal(t, q.want, believes(q.name, q.qtype), "%s %s", q.name, dns.TypeToString[q.qtype])
	}
	_, err = w.Sign(zone, "", false, false, true)
	require.NoError(t, err)
	later(t, w, 2*time.Hour)
	assert.Equal(t, "bogus", believes("www."+zone+".", dns.TypeA))
	assert.Equal(t, "bogus", believes("nothing."+zone+".", dns.TypeA))
	_, err = w.Sign(zone, "", true, true, false)
	require.NoError(t, err)
	later(t, w, 2*time.Hour)
	assert.Equal(t, "bogus", believes("www."+zone+".", dns.TypeA), "the DS is of the key before")
	require.NoError(t, w.SetDS(zone))
	later(t, w, 2*time.Hour)
	assert.Equal(t, "insecure", believes("www."+zone+".", dns.TypeA))
}

// What Gannet activated, the registry publishes later, if told; a hold takes the delegation away, a lock keeps changes out; RDAP tells all of it.
func TestRegistriesTakeTheirTime(t *testing.T) {
	w := practicetest.Start(t, 1)
	ferries(t, w, "192.0.2.1")
	const zone = "saltmarsh-ferries.example"
	key := []string{"Authorization", "Bearer gannet-practice-key"}
	at := w.URL("gannet") + "/registrations/" + zone
	parents := func() (list []string) {
		for _, rr := range ask(t, "udp", w.DNSAddress("1.1"), zone+".", dns.TypeNS).Ns {
			if ns, ok := rr.(*dns.NS); ok {
				list = append(list, ns.Ns)
			}
		}
		return list
	}
	before := parents()
	control(t, w, "/publication", `{"seconds":3600}`)
	list := []string{"quay-11.heron.test.", "quay-13.heron.test."}
	move := func() int {
		status, _, _ := call(t, "PUT", at+"/hosts", `{"hosts":["quay-11.heron.test","quay-13.heron.test"]}`, key...)
		if status == http.StatusOK {
			status, _, _ = call(t, "POST", at+"/hosts/activate", "", key...)
		}
		return status
	}
	require.Equal(t, http.StatusOK, call1(t, "PUT", at+"/states/client update prohibited", key))
	assert.Equal(t, http.StatusConflict, move(), "locked")
	require.Equal(t, http.StatusOK, call1(t, "DELETE", at+"/states/client update prohibited", key))
	require.Equal(t, http.StatusOK, move())
	assert.Equal(t, before, parents(), "not published yet")
	later(t, w, 30*time.Minute)
	assert.Equal(t, before, parents())
	later(t, w, 31*time.Minute)
	assert.Equal(t, list, parents())
	r, err := registrar.LookUp(context.Background(), reach.Loopback().HTTPClient(time.Second), w.URL("rdap"), dnsname.MustParse(zone))
	require.NoError(t, err)
	assert.Equal(t, "[quay-11.heron.test. quay-13.heron.test.]", fmt.Sprint(r.Active))
	assert.Equal(t, []string{"active"}, r.Status)
	assert.True(t, r.Expires.After(w.Now()))
	require.Equal(t, http.StatusOK, call1(t, "PUT", at+"/states/client hold", key))
	assert.Empty(t, parents())
	r, err = registrar.LookUp(context.Background(), reach.Loopback().HTTPClient(time.Second), w.URL("rdap"), dnsname.MustParse(zone))
	require.NoError(t, err)
	assert.Equal(t, []string{"client hold"}, r.Status)
	_, err = registrar.LookUp(context.Background(), reach.Loopback().HTTPClient(time.Second), w.URL("rdap"), dnsname.MustParse("nobody.example"))
	assert.ErrorIs(t, err, registrar.ErrNotRegistered)
}

func call1(t *testing.T, method, url string, headers []string) int {
	t.Helper()
	status, _, _ := call(t, method, strings.ReplaceAll(url, " ", "%20"), "", headers...)
	return status
}
