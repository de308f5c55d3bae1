package service_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/primary"
	"beacon/provider/update/nstest"
	"beacon/service"
	"beacon/service/secondaries"
	"beacon/wire"
)

// answers asks a nameserver for addresses.
func answers(server, name string) (list []string) {
	c := dns.Client{Timeout: time.Second}
	res, _, err := c.Exchange(new(dns.Msg).SetQuestion(name, dns.TypeA), server)
	if err != nil {
		return nil
	}
	for _, rr := range res.Answer {
		if a, ok := rr.(*dns.A); ok {
			list = append(list, a.A.String())
		}
	}
	return list
}

// primaryHouse is a house that gives zones to secondaries, and where.
func primaryHouse(t *testing.T) (house, string) {
	h := newHouseWith(t, func(s *service.Settings) {
		s.Primary.Listen = fmt.Sprintf("127.0.0.1:%d", nstest.FreePort(t))
		s.Drift.Every = time.Second
	})
	return h, h.settings.Primary.Listen
}

// Real nameservers fetch their zones from us: the first time whole, then in differences; they are told of changes, serve
// them within moments, and are never given a serial below the one that they have.
func TestHiddenPrimary(t *testing.T) {
	t.Parallel()
	h, listen := primaryHouse(t)
	named := nstest.NamedSecondary(t, nstest.FreePort(t), listen, zone.String())
	nsd := nstest.NSDSecondary(t, nstest.FreePort(t), listen, zone.String())
	_, err := h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: "moor", Role: wire.RoleProvider, Kind: secondaries.Kind, Secret: nstest.Credential,
		Address: fmt.Sprintf("dns://%s/ns1.moor.test,dns://%s/ns2.moor.test", named.HostPort(), nsd.HostPort())})
	require.NoError(t, err)

	h.define("moor", "@ A 192.0.2.1\nwww A 192.0.2.2\nlong TXT \""+strings.Repeat("x", 200)+"\"")
	first := h.sync(wire.SyncRequest{})
	require.Equal(t, wire.SyncDone, first.State, "%s %v", first.Message, first.Findings)
	for _, s := range []*nstest.Server{named, nsd} {
		require.Eventually(t, func() bool { return len(answers(s.HostPort(), "www."+zone.String())) == 1 }, 2*time.Minute, 50*time.Millisecond, "the first transfer to %s", s.Dir)
	}
	serial, ok := nstest.Serial(named.HostPort(), zone.String())
	require.True(t, ok)

	for round := 3; round < 7; round++ {
		h.define("moor", fmt.Sprintf("@ A 192.0.2.1\nwww A 192.0.2.%d\nn%d A 192.0.2.9\nlong TXT \"%s\"", round, round, strings.Repeat("x", 200)))
		began := time.Now()
		done := h.sync(wire.SyncRequest{Allow: []string{"names-would-stop"}})
		require.Equal(t, wire.SyncDone, done.State)
		if done.VisibleMS == nil { // a busy machine may take longer than the service waits; it has to come all the same
			t.Logf("round %d: not yet when the sync ended: %v", round, done.Findings)
			for _, s := range []*nstest.Server{named, nsd} {
				require.Eventually(t, func() bool {
					return slices.Equal(answers(s.HostPort(), "www."+zone.String()), []string{fmt.Sprintf("192.0.2.%d", round)})
				}, 2*time.Minute, 50*time.Millisecond, "round %d at %s", round, s.Dir)
			}
		}
		t.Logf("round %d: at both secondaries %s after the sync was asked for", round, time.Since(began).Round(time.Millisecond))
		for _, s := range []*nstest.Server{named, nsd} {
			assert.Equal(t, []string{fmt.Sprintf("192.0.2.%d", round)}, answers(s.HostPort(), "www."+zone.String()))
			now, _ := nstest.Serial(s.HostPort(), zone.String())
			assert.True(t, primary.Newer(now, serial), "the serial rises: %d after %d", now, serial)
		}
		serial, _ = nstest.Serial(named.HostPort(), zone.String())
	}
	differences := transferred(t, listen, new(dns.Msg).SetIxfr(zone.String(), serial-1, ".", "."))
	require.Greater(t, len(differences), 4)
	assert.Equal(t, serial-1, differences[1].(*dns.SOA).Serial, "differences are given, not the whole zone")
	assert.Len(t, transferred(t, listen, new(dns.Msg).SetIxfr(zone.String(), serial, ".", ".")), 1, "nothing newer")
	whole := transferred(t, listen, new(dns.Msg).SetIxfr(zone.String(), serial-1000, ".", "."))
	assert.Equal(t, len(transferred(t, listen, new(dns.Msg).SetAxfr(zone.String()))), len(whole), "a gap in what is known gives the whole zone")

	assert.Zero(t, h.verified("moor", wire.Verification{Role: wire.RoleProvider, Zone: dnsname.MustParse("scratch.example")}).Failed)

	// Who has no key, or another one, or asks for another zone, gets nothing.
	for _, q := range []struct{ name, key, secret string }{{zone.String(), "", ""}, {zone.String(), "other-key.", nstest.Secret}, {"elsewhere.example.", nstest.KeyName + ".", nstest.Secret},
		{zone.String(), nstest.KeyName + ".", "d3Jvbmc="}} {
		m := new(dns.Msg).SetAxfr(q.name)
		tr := &dns.Transfer{DialTimeout: time.Second}
		if q.key != "" {
			m.SetTsig(q.key, dns.HmacSHA256, 300, time.Now().Unix())
			tr.TsigSecret = map[string]string{q.key: q.secret}
		}
		parts, err := tr.In(m, listen)
		if err != nil {
			continue
		}
		for part := range parts {
			assert.Error(t, part.Error, "%v", q)
			assert.Empty(t, part.RR, "%v", q)
		}
	}
}

// transferred makes a transfer with the right key.
func transferred(t *testing.T, from string, m *dns.Msg) (all []dns.RR) {
	t.Helper()
	m.SetTsig(nstest.KeyName+".", dns.HmacSHA256, 300, time.Now().Unix())
	parts, err := (&dns.Transfer{TsigSecret: map[string]string{nstest.KeyName + ".": nstest.Secret}}).In(m, from)
	require.NoError(t, err)
	for part := range parts {
		require.NoError(t, part.Error)
		all = append(all, part.RR...)
	}
	return all
}

// Two accounts have keys of one name: each zone is given only to who has the secret of its own account.
func TestKeysOfOneName(t *testing.T) {
	t.Parallel()
	h, listen := primaryHouse(t)
	const other = "b3RoZXItc2VjcmV0LW9mLXNpeHRlZW4="
	ours, theirs := nstest.FreePort(t), nstest.FreePort(t)
	one, two := nstest.NamedSecondary(t, ours, listen, zone.String()), nstest.NamedSecondary(t, theirs, listen, "tides.example.")
	for name, account := range map[string]struct{ address, secret string }{"moor": {one.HostPort(), nstest.Credential},
		"quay": {two.HostPort(), strings.Replace(nstest.Credential, nstest.Secret, other, 1)}} {
		_, err := h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: name, Role: wire.RoleProvider, Kind: secondaries.Kind, Secret: account.secret,
			Address: fmt.Sprintf("dns://%s/ns1.%s.test", account.address, name)})
		require.NoError(t, err)
	}
	h.define("moor", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "tides", Text: "zones:\n  tides.example:\n    providers: [quay]\n    records: |\n      @ A 192.0.2.2\n"}}, Sync: true})
	require.NoError(t, err)
	fetch := func(zone, secret string) (err error) {
		m := new(dns.Msg).SetAxfr(zone)
		m.SetTsig(nstest.KeyName+".", dns.HmacSHA256, 300, time.Now().Unix())
		parts, err := (&dns.Transfer{DialTimeout: time.Second, TsigSecret: map[string]string{nstest.KeyName + ".": secret}}).In(m, listen)
		if err != nil {
			return err
		}
		for part := range parts {
			if part.Error != nil {
				err = part.Error
			}
		}
		return err
	}
	assert.NoError(t, fetch(zone.String(), nstest.Secret))
	assert.Error(t, fetch(zone.String(), other), "the key of another account, of the same name")
	assert.Eventually(t, func() bool { return fetch("tides.example.", other) == nil }, 2*time.Minute, 100*time.Millisecond)
	assert.Error(t, fetch("tides.example.", nstest.Secret))
}

// A secondary that has a higher serial than ours, from an earlier life, gets one above it, and follows.
func TestSerialAboveEverySecondary(t *testing.T) {
	t.Parallel()
	h, listen := primaryHouse(t)
	old := nstest.Named(t, zone.String()) // a primary of its own, at serial 1 and rising
	for range 5 {
		bump(t, old)
	}
	before, ok := nstest.Serial(old.HostPort(), zone.String())
	require.True(t, ok)
	require.Greater(t, before, uint32(3))
	_, err := h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: "moor", Role: wire.RoleProvider, Kind: secondaries.Kind, Secret: nstest.Credential,
		Address: fmt.Sprintf("dns://%s/ns1.moor.test", old.HostPort())})
	require.NoError(t, err)
	h.define("moor", "@ A 192.0.2.1")
	list, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: zone})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		zones, err := h.Accounts.RemoteZones(ctx, access.Service, "moor")
		return err == nil && len(zones) == 1
	}, 2*time.Minute, 50*time.Millisecond)
	h.ended(list[0].ID)
	m := new(dns.Msg).SetQuestion(zone.String(), dns.TypeSOA)
	m.SetTsig(nstest.KeyName+".", dns.HmacSHA256, 300, time.Now().Unix())
	c := dns.Client{Net: "tcp", Timeout: 20 * time.Second, TsigSecret: map[string]string{nstest.KeyName + ".": nstest.Secret}}
	res, _, err := c.Exchange(m, listen)
	require.NoError(t, err)
	require.Len(t, res.Answer, 1)
	assert.True(t, primary.Newer(res.Answer[0].(*dns.SOA).Serial, before), "%v is above %d", res.Answer[0], before)
}

func bump(t *testing.T, s *nstest.Server) {
	t.Helper()
	m := new(dns.Msg).SetUpdate(zone.String())
	rr, err := dns.NewRR(fmt.Sprintf("bump%d.%s 300 IN A 192.0.2.1", time.Now().UnixNano(), zone))
	require.NoError(t, err)
	m.Insert([]dns.RR{rr})
	m.SetTsig(nstest.KeyName+".", dns.HmacSHA256, 300, time.Now().Unix())
	c := dns.Client{Net: "tcp", Timeout: 20 * time.Second, TsigSecret: map[string]string{nstest.KeyName + ".": nstest.Secret}}
	res, _, err := c.Exchange(m, s.HostPort())
	require.NoError(t, err)
	require.Equal(t, dns.RcodeSuccess, res.Rcode)
}

// A nameserver that notifies us of a change is looked at at once, and nobody else is.
func TestNotifiedOfDrift(t *testing.T) {
	t.Parallel()
	port := nstest.FreePort(t)
	h := newHouseWith(t, func(s *service.Settings) {
		s.Primary.Listen = fmt.Sprintf("127.0.0.1:%d", port)
		s.Drift.Every = time.Hour
	})
	named := nstest.NamedNotifying(t, port, zone.String())
	_, err := h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: "moor", Role: wire.RoleProvider, Kind: "update", Secret: nstest.Credential, Address: named.Address()})
	require.NoError(t, err)
	h.define("moor", "@ A 192.0.2.1")
	done := h.sync(wire.SyncRequest{})
	require.Equal(t, wire.SyncDone, done.State, "%s %v", done.Message, done.Findings)
	h.standing("moor", wire.InSync)
	m := new(dns.Msg).SetUpdate(zone.String())
	rr, err := dns.NewRR(zone.String() + " 3600 IN A 192.0.2.99")
	require.NoError(t, err)
	m.RemoveRRset([]dns.RR{rr})
	m.Insert([]dns.RR{rr})
	m.SetTsig(nstest.KeyName+".", dns.HmacSHA256, 300, time.Now().Unix())
	c := dns.Client{Net: "tcp", Timeout: 20 * time.Second, TsigSecret: map[string]string{nstest.KeyName + ".": nstest.Secret}}
	_, _, err = c.Exchange(m, named.HostPort())
	require.NoError(t, err)
	assert.Equal(t, 1, h.standing("moor", wire.Drifted).Drifted, "nobody asked, and an hour has not passed")
	stranger := new(dns.Msg).SetNotify("elsewhere.example.")
	res, _, err := new(dns.Client).Exchange(stranger, h.settings.Primary.Listen)
	require.NoError(t, err)
	assert.Equal(t, dns.RcodeRefused, res.Rcode)
}

// A secondary that has fallen behind is seen, and said with what will come of it.
func TestSecondaryBehind(t *testing.T) {
	t.Parallel()
	h, _ := primaryHouse(t)
	silent := nstest.Named(t) // it answers, and is a secondary of nobody
	_, err := h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: "moor", Role: wire.RoleProvider, Kind: secondaries.Kind, Secret: nstest.Credential,
		Address: fmt.Sprintf("dns://%s/ns1.moor.test", silent.HostPort())})
	require.NoError(t, err)
	h.define("moor", "@ A 192.0.2.1")
	list, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: zone})
	require.NoError(t, err)
	done := h.ended(list[0].ID)
	assert.Nil(t, done.VisibleMS)
	assert.NotEmpty(t, done.Findings)
	p := h.standing("moor", wire.Unreachable)
	assert.Contains(t, p.Trouble, "does not serve the zone")
}
