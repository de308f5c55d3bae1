package service_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/handover"
	"beacon/core/record"
	"beacon/practice"
	"beacon/practice/practicetest"
	"beacon/service"
	"beacon/wire"
)

// validator is a new unbound, without anything in its cache, that knows the root and the anchor of a world.
func validator(t *testing.T, w *practice.World, where string) string {
	t.Helper()
	return validatorWith(t, w, where, "    cache-max-ttl: 0\n    cache-max-negative-ttl: 0\n    key-cache-size: 0\n")
}

// validatorWith is validator with more settings in the place of those that leave it without a cache.
func validatorWith(t *testing.T, w *practice.World, where, more string) string {
	t.Helper()
	dir := t.TempDir()
	put := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	site := w.IP(where)
	conf := put("unbound.conf", fmt.Sprintf(`server:
    interface: %s@53
    do-daemonize: no
    username: ""
    chroot: ""
    directory: %q
    pidfile: ""
    use-syslog: no
    do-not-query-localhost: no
    access-control: 127.0.0.0/8 allow
    root-hints: %q
    trust-anchor-file: %q
    module-config: "validator iterator"
    do-ip6: no
    num-threads: 1
    local-zone: "test." nodefault
%sremote-control:
    control-enable: no
`, site, dir, put("hints", w.RootHints()), put("anchor", w.Anchor()), more))
	cmd := exec.Command("unbound", "-d", "-p", "-c", conf)
	log, err := os.Create(filepath.Join(dir, "log"))
	require.NoError(t, err)
	t.Cleanup(func() { log.Close() })
	cmd.Stdout, cmd.Stderr = log, log
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Signal(syscall.SIGTERM); _ = cmd.Wait() })
	require.Eventually(t, func() bool { return believes(t, site+":53", ".", dns.TypeSOA) == "secure" }, 2*time.Minute, 50*time.Millisecond, "it begins with the root")
	return site + ":53"
}

// believes is what a validating resolver makes of a question: "secure", "insecure" or "bogus".
func believes(t *testing.T, at, name string, qtype uint16) string {
	t.Helper()
	ask := func(unchecked bool) *dns.Msg {
		m := new(dns.Msg).SetQuestion(name, qtype)
		m.SetEdns0(1232, true)
		m.CheckingDisabled = unchecked
		for range 40 { // it may be starting
			if r, _, err := (&dns.Client{Timeout: 3 * time.Second}).Exchange(m, at); err == nil {
				return r
			}
			time.Sleep(50 * time.Millisecond)
		}
		require.Fail(t, "the resolver does not answer", name)
		return nil
	}
	switch r := ask(false); {
	case r.Rcode == dns.RcodeServerFailure && ask(true).Rcode != dns.RcodeServerFailure:
		return "bogus"
	case r.AuthenticatedData:
		return "secure"
	}
	return "insecure"
}

// A zone and a zone below it are signed, delegated, and get their DS records, one at the registrar and one in the zone above, which is ours: both
// validate from the practice root, for this service and for another validator.
func TestSignedFromTheRoot(t *testing.T) {
	t.Parallel()
	w := practicetest.StartWith(t, practice.Options{Rate: 60, Signed: true, DNSPort: 53})
	h := newHouseIn(t, w, func(s *service.Settings, _ string) {
		s.DNS.TrustAnchors = filepath.Join(t.TempDir(), "anchors")
		require.NoError(t, os.WriteFile(s.DNS.TrustAnchors, []byte(w.Anchor()), 0o600))
	})
	h.register()
	apply := func(text string, at dnsname.Name) {
		_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "test.beacon.yaml", Text: text}}})
		require.NoError(t, err)
		synced, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: at})
		require.NoError(t, err)
		require.Equal(t, wire.SyncDone, h.ended(synced[0].ID).State)
	}
	apply("zones:\n  saltmarsh-ferries.example:\n    providers: [heron-main]\n    registrar: gannet-main\n    records: |\n      @ A 192.0.2.1\n      www A 192.0.2.1\n      *.pier A 192.0.2.7\n", zone)
	act := h.delegate(wire.DelegateRequest{Override: []string{"sides-differ"}, Reason: "Plover begins zones with a record of its own"})
	require.Equal(t, wire.ActDone, act.State, act.Message)
	sign := func(name dnsname.Name, more string) (ds []string) {
		var got struct{ DS []string }
		require.NoError(t, json.Unmarshal([]byte(h.control("/signing", map[string]any{"zone": name.String(), "broken": more == "broken", "roll": more == "roll"})), &got))
		return got.DS
	}
	check := func(name dnsname.Name) dnssec.State {
		report, err := h.Checks.Check(ctx, access.Service, name)
		require.NoError(t, err)
		return report.DNSSEC
	}
	at := validator(t, w, "8.77")
	publish := func(name dnsname.Name) {
		plan, err := h.Delegations.PreviewDS(ctx, access.Service, wire.DSRequest{Domain: name})
		require.NoError(t, err)
		require.Empty(t, plan.Closed, "%v", plan.Findings)
		require.True(t, plan.Pending)
		act := h.finished(h.Delegations.ChangeDS(ctx, access.Service, wire.DSRequest{Domain: name}))
		require.Equal(t, wire.ActDone, act.State, act.Message)
		require.Len(t, act.Requests, 1)
		again, err := h.Delegations.PreviewDS(ctx, access.Service, wire.DSRequest{Domain: name})
		require.NoError(t, err)
		assert.False(t, again.Pending)
		assert.Equal(t, again.DS, again.Before)
	}

	assert.Equal(t, dnssec.Insecure, check(zone))
	assert.Equal(t, "insecure", believes(t, at, "www.saltmarsh-ferries.example.", dns.TypeA))
	ds := sign(zone, "")
	require.Len(t, ds, 1)
	publish(zone)
	at = validator(t, w, "8.80")
	assert.Equal(t, dnssec.Secure, check(zone))
	for name, qtype := range map[string]uint16{"www.saltmarsh-ferries.example.": dns.TypeA, "nothing.saltmarsh-ferries.example.": dns.TypeA, "www.saltmarsh-ferries.example.2": dns.TypeAAAA,
		"east.pier.saltmarsh-ferries.example.": dns.TypeA, "saltmarsh-ferries.example.": dns.TypeSOA, "example.": dns.TypeSOA, ".": dns.TypeNS, "nobody.test.": dns.TypeA} {
		if last := name[len(name)-1]; last == '2' {
			name = name[:len(name)-1]
		}
		assert.Equal(t, "secure", believes(t, at, name, qtype), "%s %s", name, dns.TypeToString[qtype])
	}
	assert.Equal(t, "insecure", believes(t, at, "quay-11.heron.test.", dns.TypeA), "a zone that is not signed, below one that is")

	back := []string{"reed-11.plover.test", "reed-14.plover.test"}
	differ, err := h.Delegations.Preview(ctx, access.Service, wire.DelegateRequest{Domain: zone, Nameservers: back})
	require.NoError(t, err)
	forecast, err := h.Handover.Forecast(ctx, access.Service, wire.ForecastRequest{Domain: zone, Nameservers: back, Agree: differ.Digest, KeepOld: true})
	require.NoError(t, err)
	assert.Empty(t, forecast.Closed)
	var steps []string
	for _, s := range forecast.Steps {
		steps = append(steps, string(s.Phase)+" "+string(s.Do))
	}
	assert.Contains(t, codes(differ.Findings), "keys-shared", "signing keys belong to the zone there, wherever it is")
	assert.Equal(t, []string{"ready delegate", "settling tell-old", "settling ", "done "}, steps, "%+v", forecast.Steps)

	child := "zones:\n  gauges.saltmarsh-ferries.example:\n    providers: [curlew-ops]\n    records: |\n      @ A 192.0.2.40\n      east A 192.0.2.41\n"
	apply(child, team)
	v, err := h.Overview.Zone(ctx, access.Service, team)
	require.NoError(t, err)
	first := v.Placements[0].Nameservers[0].String() // sand-11.curlew.test. is at site 6.11
	own := w.IP("6." + strings.TrimPrefix(strings.SplitN(first, ".", 2)[0], "sand-"))
	apply(child+"      ns1 A "+own+"\n", team)
	list := []string{"ns1.gauges.saltmarsh-ferries.example", first}
	act = h.finished(h.Delegations.Delegate(ctx, access.Service, wire.DelegateRequest{Domain: team, Nameservers: list, Override: []string{"nameserver-not-assigned"}, Reason: "its own name"}))
	require.Equal(t, wire.ActDone, act.State, act.Message)
	assert.Equal(t, []string{"glue", "save"}, act.Delegated.Steps)
	sign(team, "")
	publish(team)
	assert.Equal(t, dnssec.Secure, check(team))
	at = validator(t, w, "8.78")
	assert.Equal(t, "secure", believes(t, at, "east.gauges.saltmarsh-ferries.example.", dns.TypeA))
	assert.Len(t, h.live("heron").Get(record.Key{Name: team, Type: record.DS}).Data, 1, "it is in the zone above")

	sign(team, "broken")
	assert.Equal(t, dnssec.Bogus, check(team))
	at = validator(t, w, "8.79")
	assert.Equal(t, "bogus", believes(t, at, "east.gauges.saltmarsh-ferries.example.", dns.TypeA))
	sign(team, "")
	assert.Equal(t, dnssec.Secure, check(team))

	// The zone above is placed at a second provider, which keeps no DS: a gate says so before anything is sent.
	_, err = h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: "unsigned-main", Role: wire.RoleProvider, Kind: "unsigned", Address: w.URL("curlew"), Secret: "desk:curlew-practice-key"})
	require.NoError(t, err)
	_, err = h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "test.beacon.yaml", Text: "zones:\n  saltmarsh-ferries.example:\n    providers: [heron-main, unsigned-main]\n    registrar: gannet-main\n    records: |\n      @ A 192.0.2.1\n      www A 192.0.2.1\n      *.pier A 192.0.2.7\n"}}})
	require.NoError(t, err)
	plan, err := h.Delegations.PreviewDS(ctx, access.Service, wire.DSRequest{Domain: team})
	require.NoError(t, err)
	require.Len(t, plan.Closed, 1, "%v", plan.Findings)
	assert.Equal(t, handover.GateDSParent, plan.Closed[0].Code)
	assert.Contains(t, plan.Closed[0].Message, "unsigned-main")

	// Another key signs alone: the DS that is published does not fit it, until it is replaced.
	sign(zone, "roll")
	assert.Equal(t, dnssec.Bogus, check(zone))
	publish(zone)
	assert.Equal(t, dnssec.Secure, check(zone))
	act = h.finished(h.Delegations.ChangeDS(ctx, access.Service, wire.DSRequest{Domain: zone, Remove: true}))
	require.Equal(t, wire.ActDone, act.State, act.Message)
	assert.Equal(t, dnssec.Insecure, check(zone))
}
