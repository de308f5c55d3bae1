package service_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/change"
	"beacon/core/record"
	"beacon/core/soa"
	"beacon/outcall"
	"beacon/provider"
	"beacon/provider/update"
	"beacon/provider/update/nstest"
	"beacon/reach"
	"beacon/service"
	"beacon/service/secondaries"
	"beacon/wire"
)

// servedSOA asks a nameserver for the SOA record of the zone.
func servedSOA(t *testing.T, server string) (p soa.Parameters, serial uint32) {
	t.Helper()
	res, err := dns.Exchange(new(dns.Msg).SetQuestion(zone.String(), dns.TypeSOA), server)
	require.NoError(t, err)
	require.Len(t, res.Answer, 1)
	r, err := record.FromRR(res.Answer[0])
	require.NoError(t, err)
	p, ok := soa.Of(record.NewSet(r.Name, r.Type, r.TTL, r.Data))
	require.True(t, ok)
	return p, res.Answer[0].(*dns.SOA).Serial
}

func (h house) settle(s wire.SOA) {
	h.t.Helper()
	_, err := h.Zones.SetZoneSettings(ctx, access.Service, zone, wire.ZoneSettings{Drift: "manual", SOA: s}, anyState)
	require.NoError(h.t, err)
}

// pending returns the steps that a sync would do at an account.
func (h house) pending(account string) (steps []string) {
	h.t.Helper()
	list, err := h.Syncs.Differences(ctx, access.Service, zone, false)
	require.NoError(h.t, err)
	for _, d := range list {
		for _, s := range d.Steps {
			if d.Account == account {
				steps = append(steps, s.Verb()+" "+s.Key().String())
			}
		}
	}
	return steps
}

// Fields of the SOA record are desired by the service and by the zone, wherever the provider lets them be set: they are steps of the change list like
// records, are served, are written again where somebody else changed them, and are left alone once nobody desires them.
func TestSOAFields(t *testing.T) {
	t.Parallel()
	knot := nstest.Knot(t, zone.String())
	listen := fmt.Sprintf("127.0.0.1:%d", nstest.FreePort(t))
	h := newHouseWith(t, func(s *service.Settings) {
		s.Primary.Listen, s.Request = listen, 20*time.Second
		s.SOA = map[string]string{"refresh": "2h", "retry": "15m"}
	})
	named := nstest.NamedSecondary(t, nstest.FreePort(t), listen, zone.String())
	for name, a := range map[string]wire.NewAccount{"moor": {Kind: "update", Address: knot.Address()}, "quay": {Kind: secondaries.Kind, Address: fmt.Sprintf("dns://%s/ns1.quay.test", named.HostPort())}} {
		a.Name, a.Role, a.Secret = name, wire.RoleProvider, nstest.Credential
		_, err := h.Accounts.AddAccount(ctx, access.Service, a)
		require.NoError(t, err)
	}
	heron := func() string { // one of the zone's nameservers there
		for i := 11; ; i++ {
			at := h.world.DNSAddress(fmt.Sprintf("4.%d", i))
			if res, err := dns.Exchange(new(dns.Msg).SetQuestion(zone.String(), dns.TypeSOA), at); err == nil && res.Authoritative {
				return at
			}
			require.Less(t, i, 30)
		}
	}
	for _, c := range []struct {
		account string
		server  func() string
		fields  []string // that can be set
	}{{"heron-main", heron, []string{"rname", "refresh", "retry", "expire", "minimum"}}, {"moor", knot.HostPort, soa.Fields}, {"quay", named.HostPort, soa.Fields}} {
		h.define(c.account, "@ A 192.0.2.1\nwww A 192.0.2.2")
		h.settle(wire.SOA{})
		done := h.sync(wire.SyncRequest{Zone: zone, Account: c.account})
		require.Equal(t, wire.SyncDone, done.State, "%s: %s", c.account, done.Message)
		now, _ := servedSOA(t, c.server())
		assert.EqualValues(t, 7200, now.Refresh, "%s: as the service desires", c.account)
		assert.EqualValues(t, 900, now.Retry, c.account)
		assert.Empty(t, h.pending(c.account), c.account)

		all := wire.SOA{MName: "ns7.moor.test.", RName: "dock.master@saltmarsh-ferries.example", Retry: 1200, Expire: 864000, Minimum: 420, TTL: 1800}
		h.settle(all)
		assert.Equal(t, []string{"change saltmarsh-ferries.example. SOA"}, h.pending(c.account), c.account)
		done = h.sync(wire.SyncRequest{Zone: zone, Account: c.account})
		require.Equal(t, wire.SyncDone, done.State, "%s: %s %v", c.account, done.Message, done.Findings)
		assert.Equal(t, 1, done.Changed, c.account)
		if c.account != "moor" { // whose nameserver has no address in this world
			assert.NotNil(t, done.VisibleMS, "%s: %s %v", c.account, done.Message, done.Findings)
		}
		if len(c.fields) < len(soa.Fields) {
			require.Len(t, done.Findings, 1)
			assert.Equal(t, soa.CodeUnsupported, done.Findings[0].Code)
			assert.Contains(t, done.Findings[0].Message, "mname, ttl")
		}
		desired, err := all.Parameters()
		require.NoError(t, err)
		now, serial := servedSOA(t, c.server())
		assert.Equal(t, desired.Over(soa.Parameters{Refresh: 7200}).Only(c.fields), now.Only(c.fields), c.account)
		assert.Empty(t, h.pending(c.account), c.account)

		// Records change beside it: one request more, and both are there.
		h.define(c.account, "@ A 192.0.2.1\nwww A 192.0.2.3")
		h.settle(wire.SOA{Minimum: 600})
		require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Zone: zone, Account: c.account}).State)
		now, later := servedSOA(t, c.server())
		assert.EqualValues(t, 600, now.Minimum, c.account)
		assert.Equal(t, desired.RName, now.RName, "%s: what nobody desires any more stays as it is", c.account)
		assert.Greater(t, later, serial, c.account)
		assert.Empty(t, h.pending(c.account), c.account)
	}

	// What somebody changes at the server is written again.
	h.define("moor", "@ A 192.0.2.1\nwww A 192.0.2.3")
	h.settle(wire.SOA{Minimum: 600})
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Zone: zone, Account: "moor"}).State)
	d := update.New(outcall.Client{Base: knot.Address(), Secret: nstest.Credential, Dial: reach.Loopback().DialContext})
	is, err := d.SOA(ctx, provider.ZoneRef{ID: zone.String(), Name: zone})
	require.NoError(t, err)
	with, ok := soa.Of(is)
	require.True(t, ok)
	other := soa.Parameters{Minimum: 30}.Over(with).Record(zone)
	_, err = d.Apply(ctx, provider.ZoneRef{ID: zone.String(), Name: zone}, change.Batch{Steps: change.List{{Before: is, After: other}}})
	require.NoError(t, err)
	assert.Equal(t, []string{"change saltmarsh-ferries.example. SOA"}, h.pending("moor"))
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Zone: zone, Account: "moor"}).State)
	now, _ := servedSOA(t, knot.HostPort())
	assert.EqualValues(t, 600, now.Minimum)
}

// A provider that refuses a value, or confirms it and keeps another, is told of. Records are written before.
func TestSOAFieldsThatAreNotTaken(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	_, err := h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: "deaf-main", Role: wire.RoleProvider, Kind: "deaf", Address: h.world.URL("heron"), Secret: "heron-practice-key"})
	require.NoError(t, err)
	h.define("deaf-main", "@ A 192.0.2.1")
	h.settle(wire.SOA{Minimum: 600})
	done := h.sync(wire.SyncRequest{Zone: zone})
	require.Equal(t, wire.SyncDone, done.State, done.Message)
	require.Len(t, done.Findings, 1)
	assert.Equal(t, "soa-not-taken", done.Findings[0].Code)
	assert.Contains(t, done.Findings[0].Message, "minimum is 300, not 600")
	assert.Len(t, h.live("heron").Records(), 1)

	h.settle(wire.SOA{})
	h.define("heron-main", "@ A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Account: "heron-main"}).State)
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.2")
	h.settle(wire.SOA{Minimum: 7200}) // Heron's longest is an hour
	done = h.sync(wire.SyncRequest{Zone: zone, Account: "heron-main"})
	assert.Equal(t, wire.SyncFailed, done.State, done.Message)
	assert.Contains(t, done.Message, "negative is at most 3600")
	assert.Len(t, h.live("heron").Records(), 2, "records were written before")
}

// Definitions and settings name fields, and faults in them are told with what to write.
func TestSOAFieldsInDefinitions(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.place("heron-main", `soa: {rname: dock@saltmarsh-ferries.example, minimum: 5m}`, "@ A 192.0.2.1")
	v, err := h.Overview.Zone(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, wire.SOA{RName: "dock@saltmarsh-ferries.example", Minimum: 300}, v.Settings.SOA)
	for _, wrong := range []wire.SOA{{RName: "@x"}, {MName: "a..b"}, {Refresh: 1 << 31}, {Refresh: 3600, Expire: 60}} {
		_, err := h.Zones.SetZoneSettings(ctx, access.Service, zone, wire.ZoneSettings{Drift: "manual", SOA: wrong}, anyState)
		assert.ErrorContains(t, err, "SOA record: ", "%v", wrong)
	}
}
