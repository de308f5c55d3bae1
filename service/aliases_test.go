package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/wire"
)

// The apex follows a name in another zone, and a name within its own: the addresses are right, and stay so.
func TestAlias(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "web 120 A 192.0.2.8\ninner 600 ALIAS web\n@ ALIAS outside.tidepool.example.\nlost ALIAS nowhere.tidepool.example.")
	pool := dnsname.MustParse("tidepool.example")
	h.otherZone(pool, "outside 40 CNAME deep\ndeep 30 A 192.0.2.71\ndeep 30 AAAA 2001:db8::71")
	end := h.sync(wire.SyncRequest{})
	require.Equal(t, wire.SyncDone, end.State, "%+v", end)
	live := h.live("heron")
	at := func(c record.Contents, name string, typ record.Type) record.Set {
		return c.Get(rec(t, name, 0, typ, map[record.Type]string{record.A: "192.0.2.1", record.AAAA: "::1"}[typ]).Key())
	}
	assert.Equal(t, []record.Data{"192.0.2.71"}, at(live, "@", record.A).Data)
	assert.Equal(t, []record.Data{"2001:db8::71"}, at(live, "@", record.AAAA).Data)
	assert.LessOrEqual(t, at(live, "@", record.A).TTL, uint32(60), "no longer than the chain allows, but for the provider's floor")
	assert.Equal(t, []record.Data{"192.0.2.8"}, at(live, "inner", record.A).Data)
	assert.EqualValues(t, 120, at(live, "inner", record.A).TTL)
	assert.True(t, at(live, "lost", record.A).IsZero())
	found, err := h.Zones.Findings(ctx, access.Service, zone)
	require.NoError(t, err)
	var codes []string
	for _, f := range found {
		codes = append(codes, f.Code)
	}
	assert.Contains(t, codes, "alias-unanswered")

	// The target moves: nobody has to do anything.
	h.changeOther(pool, "outside 40 CNAME deep\ndeep 30 A 192.0.2.72")
	require.Eventually(t, func() bool {
		c := h.live("heron")
		return len(at(c, "@", record.A).Data) == 1 && at(c, "@", record.A).Data[0] == "192.0.2.72" && at(c, "@", record.AAAA).IsZero()
	}, 2*time.Minute, 100*time.Millisecond)

	// The target is gone: the last good answer stays.
	h.changeOther(pool, "else A 192.0.2.9")
	require.Eventually(t, func() bool {
		list, err := h.Logbook.Entries(ctx, access.Service, zone.String(), false, 0, 50)
		require.NoError(t, err)
		for _, e := range list {
			if e.Action == "alias.unanswered" {
				return true
			}
		}
		return false
	}, 2*time.Minute, 100*time.Millisecond)
	h.sync(wire.SyncRequest{})
	assert.Equal(t, []record.Data{"192.0.2.72"}, at(h.live("heron"), "@", record.A).Data)
	served, err := h.Zones.WantedAddresses(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Empty(t, served.Aliases())
	assert.Equal(t, []record.Data{"192.0.2.72"}, at(served, "@", record.A).Data)
}

// otherZone puts another domain out and delegates it.
func (h house) otherZone(name dnsname.Name, records string) {
	h.t.Helper()
	text := "zones:\n  " + name.Unicode() + ":\n    providers: [heron-main]\n    records: |\n      " + indented(records) + "\n"
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "other.beacon.yaml", Text: text}}})
	require.NoError(h.t, err)
	list, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: name})
	require.NoError(h.t, err)
	require.Equal(h.t, wire.SyncDone, h.ended(list[0].ID).State)
	z, err := h.Overview.Zone(ctx, access.Service, name)
	require.NoError(h.t, err)
	var hosts []string
	for _, n := range z.Placements[0].Nameservers {
		hosts = append(hosts, n.String())
	}
	require.NoError(h.t, h.world.Register(name.Unicode(), hosts, 60))
}

func (h house) changeOther(name dnsname.Name, records string) {
	h.t.Helper()
	text := "zones:\n  " + name.Unicode() + ":\n    providers: [heron-main]\n    records: |\n      " + indented(records) + "\n"
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "other.beacon.yaml", Text: text}}})
	require.NoError(h.t, err)
	list, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: name, Allow: []string{diff.GuardNamesStop}})
	require.NoError(h.t, err)
	require.Equal(h.t, wire.SyncDone, h.ended(list[0].ID).State)
}

// A provider that knows such a thing for the apex gets it, and keeps the addresses right itself; elsewhere in the zone the service does.
func TestAliasAtAProviderThatHasIt(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("plover-old", "@ 300 ALIAS outside.tidepool.example.\ninner 300 ALIAS outside.tidepool.example.\n@ MX 0 .")
	h.otherZone(dnsname.MustParse("tidepool.example"), "outside 200 A 192.0.2.71")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	live := h.live("plover")
	assert.Equal(t, []record.Data{"outside.tidepool.example."}, live.Get(record.Key{Name: zone, Type: record.ALIAS}).Data)
	assert.Equal(t, []record.Data{"192.0.2.71"}, live.Get(rec(t, "inner", 0, record.A, "192.0.2.1").Key()).Data)
	list, err := h.Syncs.Differences(ctx, access.Service, zone, false)
	require.NoError(t, err)
	assert.Empty(t, list[0].Steps, "what was written is read back as the same")
	assert.Equal(t, 3, list[0].InSync)
}

// An ALIAS whose target nobody answers for takes no address away unseen, at whatever provider the zone is.
func TestAliasThatNobodyAnswersFor(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	both := "heron-main, plover-old"
	h.define(both, "@ 300 A 192.0.2.1\nwww 300 A 192.0.2.2")
	list, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: zone})
	require.NoError(t, err)
	for _, s := range list {
		require.Equal(t, wire.SyncDone, h.ended(s.ID).State)
	}
	h.define(both, "@ 300 ALIAS nowhere.tidepool.example.\nwww 300 A 192.0.2.3")
	ends := map[string]wire.SyncView{}
	list, err = h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: zone})
	require.NoError(t, err)
	for _, s := range list {
		ends[s.Account] = h.ended(s.ID)
	}
	for _, site := range []string{"heron", "plover"} {
		live := h.live(site)
		assert.Equal(t, []record.Data{"192.0.2.1"}, live.Get(record.Key{Name: zone, Type: record.A}).Data, site)
		assert.True(t, live.Get(record.Key{Name: zone, Type: record.ALIAS}).IsZero(), site)
	}
	assert.Equal(t, wire.SyncBlocked, ends["plover-old"].State)
	assert.Contains(t, codes(ends["plover-old"].Findings), diff.GuardAlias)
	assert.Equal(t, wire.SyncDone, ends["heron-main"].State, "it follows no ALIAS itself: the old addresses stay")
	assert.Contains(t, codes(ends["heron-main"].Findings), "alias-unanswered")
	differences, err := h.Syncs.Differences(ctx, access.Service, zone, false)
	require.NoError(t, err)
	assert.Equal(t, 1, differences[0].InSync, "the rest is compared as ever")
}
