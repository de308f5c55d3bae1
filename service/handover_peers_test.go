package service_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/handover"
	"beacon/practice"
	"beacon/practice/practicetest"
	"beacon/provider/update/nstest"
	"beacon/resolve/peerstest"
	"beacon/service"
	"beacon/service/check"
	"beacon/wire"
)

// signedZone returns a zone signed with a key of its own by BIND's tools, its TTLs all the same, and the DS record of the key.
func signedZone(t *testing.T, name, text string, ttl int) (signed, ds string) {
	t.Helper()
	dir := t.TempDir()
	run := func(program string, args ...string) string {
		cmd := exec.Command(program, args...)
		cmd.Dir = dir
		out, err := cmd.Output()
		require.NoError(t, err, "%s %v", program, args)
		return strings.TrimSpace(string(out))
	}
	key := run("dnssec-keygen", "-q", "-K", dir, "-a", "ECDSAP256SHA256", "-f", "KSK", "-L", fmt.Sprint(ttl), name)
	public, err := os.ReadFile(filepath.Join(dir, key+".key"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "zone"), append([]byte(text), public...), 0o600))
	run("dnssec-signzone", "-P", "-z", "-o", name, "-f", "signed", "-K", dir, "zone", key)
	out, err := os.ReadFile(filepath.Join(dir, "signed"))
	require.NoError(t, err)
	_, ds, _ = strings.Cut(run("dnssec-dsfromkey", "-a", "SHA-256", key+".key"), " DS ")
	return string(out), ds
}

// A signed domain moves from named, which is not managed here, to knotd, which signs with a key of its own. An unbound that validates and caches is asked all the while, in real
// time: no answer fails, and the domain is secure at the end.
func TestHandoverBetweenRealServers(t *testing.T) {
	t.Parallel()
	if !peerstest.InNamespace(t) {
		return
	}
	const ttl = 2
	w := practicetest.StartWith(t, practice.Options{Rate: 1, Signed: true, DNSPort: 53})
	h := newHouseIn(t, w, func(s *service.Settings, _ string) {
		s.DNS.TrustAnchors = filepath.Join(t.TempDir(), "anchors")
		s.Checks, s.Request = check.CheckSettings{Settling: time.Second, Settled: time.Minute, Margin: time.Second}, 400*time.Millisecond
		require.NoError(t, os.WriteFile(s.DNS.TrustAnchors, []byte(w.Anchor()), 0o600))
	})
	m := &moves{house: h}
	before, after := w.IP("12.11"), w.IP("12.12")
	peerstest.Own(t, before)
	berth := m.hostedAtPlover("berth.example.", fmt.Sprintf("old1 %d A %s\nold2 %[1]d A %[2]s\nnew1 %[1]d A %[3]s\nnew2 %[1]d A %[3]s\n", 3600, before, after))
	var hosts []string
	for _, n := range berth {
		hosts = append(hosts, n.String())
	}
	require.NoError(t, w.Register("berth.example.", hosts, 3600))
	head := func(side string) string {
		return fmt.Sprintf("$ORIGIN %s\n$TTL %d\n@ SOA %s1.berth.example. admin.berth.example. 1 3600 600 86400 %[2]d\n@ NS %[3]s1.berth.example.\n@ NS %[3]s2.berth.example.\n", zone, ttl, side)
	}
	records := "@ A 192.0.2.1\nwww A 192.0.2.1\n@ MX 10 mail.post.example.\n*.pier A 192.0.2.7\n"
	signed, ds := signedZone(t, zone.String(), head("old")+records, ttl)
	named := nstest.NamedAt(t, before, 53, zone.String(), signed)
	knot := nstest.KnotSigningAt(t, after, 53, ttl, zone.String(), head("new"))
	require.NoError(t, w.Register(zone.String(), []string{"old1.berth.example.", "old2.berth.example."}, ttl))
	require.NoError(t, w.SetDS(zone.String(), ds))
	_, err := h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: "moor", Role: wire.RoleProvider, Kind: "update", Secret: nstest.Credential, Address: knot.Address()})
	require.NoError(t, err)
	m.apply(fmt.Sprintf("zones:\n  saltmarsh-ferries.example:\n    providers: [moor]\n    registrar: gannet-main\n    ttl: %d\n    records: |\n      %s\n", ttl, indented(strings.TrimSpace(records))))
	m.syncOf(zone)
	at := validatorWith(t, w, "8.81", "")
	require.Equal(t, "secure", believes(t, at, "www.saltmarsh-ferries.example.", dns.TypeA))

	var mu sync.Mutex
	asked, failed := 0, []string{}
	stop := make(chan struct{})
	var asking sync.WaitGroup
	asking.Go(func() {
		client := dns.Client{Timeout: 3 * time.Second}
		for i := 0; ; i++ {
			for _, q := range []struct {
				name  string
				qtype uint16
				rcode int
			}{{"www.", dns.TypeA, 0}, {"", dns.TypeMX, 0}, {"east.pier.", dns.TypeA, 0}, {fmt.Sprintf("nobody-%d.", i%7), dns.TypeA, dns.RcodeNameError}} {
				m := new(dns.Msg).SetQuestion(q.name+zone.String(), q.qtype)
				m.SetEdns0(1232, true)
				res, _, err := client.Exchange(m, at)
				mu.Lock()
				asked++
				if err != nil || res.Rcode != q.rcode || q.rcode == 0 && len(res.Answer) == 0 {
					failed = append(failed, fmt.Sprintf("%s %s%s: %v %v", time.Now().Format(time.TimeOnly), q.name, zone, err, res))
				}
				mu.Unlock()
			}
			select {
			case <-stop:
				return
			case <-time.After(50 * time.Millisecond):
			}
		}
	})
	_, err = h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "moor", Sign: true, Allow: handover.Consent()})
	require.NoError(t, err)
	v := h.moving(false, func(v wire.Handover) bool { return v.Asked != nil && v.Asked.Gate == handover.GateOldNames })
	assert.Equal(t, handover.Securing, v.Phase, "what keeps asking named would find what the new DS makes bogus")
	named.Stop() // the old provider removes the zone, as it is asked to, and answers for others
	nstest.NamedAt(t, before, 53, "other.example.", strings.ReplaceAll(head("old"), zone.String(), "other.example."))
	v = h.moving(false, doneWith)
	close(stop)
	asking.Wait()
	assert.Empty(t, failed, "%+v", v.Report)
	assert.Equal(t, "secure", believes(t, validator(t, w, "8.82"), "www.saltmarsh-ferries.example.", dns.TypeA))
	report, err := h.Checks.Check(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, "secure", string(report.DNSSEC))
	t.Logf("%d answers of unbound, none failed; it took %s", asked, v.EndedAt.Sub(v.BegunAt).Round(time.Second))
	if os.Getenv("BEACON_SOAK") != "" { // the proof that there was no DS is held for the registry's negative TTL
		require.Eventually(t, func() bool { return believes(t, at, "www.saltmarsh-ferries.example.", dns.TypeA) == "secure" }, 6*time.Minute, time.Second)
	}
}
