package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/record"
	"beacon/wire"
)

var team = dnsname.MustParse("gauges." + zone.String())

// A zone below one that is managed here is delegated in that one: in all of its placements, though a file manages it, and with what the child
// has of its own. Nothing of the parent's revision changes.
func TestDelegationInAZoneOfOurs(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.register()
	parent := `zones:
  saltmarsh-ferries.example:
    providers: [heron-main, curlew-ops]
    registrar: gannet-main
    records: |
      @ A 192.0.2.1
      www A 192.0.2.1
`
	child := `zones:
  gauges.saltmarsh-ferries.example:
    providers: [curlew-ops]
    records: |
      @ A 192.0.2.40
      east A 192.0.2.41
`
	apply := func(name, text string) {
		_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: name, Text: text}}, Manage: true})
		require.NoError(t, err)
	}
	apply("parent.beacon.yaml", parent)
	for _, account := range []string{"heron-main", "curlew-ops"} {
		require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Account: account}).State)
	}
	before, err := h.Overview.Zone(ctx, access.Service, zone)
	require.NoError(t, err)
	plan, err := h.Delegations.Preview(ctx, access.Service, wire.DelegateRequest{Domain: zone})
	require.Error(t, err, "placed at two providers, and nobody said which: %v", plan)
	var heron []string
	for _, p := range before.Placements {
		if p.Account == "heron-main" {
			for _, n := range p.Nameservers {
				heron = append(heron, n.String())
			}
		}
	}
	act := h.delegate(wire.DelegateRequest{Nameservers: heron, Override: []string{"sides-differ"}, Reason: "Plover begins zones with a record of its own"})
	require.Equal(t, wire.ActDone, act.State, act.Message)

	apply("child.beacon.yaml", child)
	synced, err := h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: team})
	require.NoError(t, err)
	require.Equal(t, wire.SyncDone, h.ended(synced[0].ID).State)
	plan, err = h.Delegations.Preview(ctx, access.Service, wire.DelegateRequest{Domain: team})
	require.NoError(t, err)
	assert.Nil(t, plan.ByHand)
	assert.Equal(t, "zone saltmarsh-ferries.example", plan.Registrar)
	assert.Empty(t, plan.Closed, "%v", plan.Findings)
	assert.Equal(t, []string{"save"}, plan.Steps)
	act = h.finished(h.Delegations.Delegate(ctx, access.Service, wire.DelegateRequest{Domain: team}))
	require.Equal(t, wire.ActDone, act.State, act.Message)
	assert.Len(t, act.Requests, 1)

	for _, kind := range []string{"heron", "curlew"} {
		ns := h.live(kind).Get(record.Key{Name: team, Type: record.NS})
		assert.Len(t, ns.Data, len(act.Delegated.Wanted), kind)
	}
	report, err := h.Checks.Check(ctx, access.Service, team)
	require.NoError(t, err)
	assert.Contains(t, []delegation.Verdict{delegation.Settling, delegation.Settled}, report.Verdict, "%v", codes(report.Findings))
	after, err := h.Overview.Zone(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Equal(t, before.Revision, after.Revision, "the parent's revision is as it was")
	assert.Equal(t, "parent.beacon.yaml", after.ManagedBy)

	// A whole sync of the parent keeps the delegation, and a file that is applied again does too.
	apply("parent.beacon.yaml", parent+"      late A 192.0.2.9\n")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Account: "heron-main"}).State)
	assert.False(t, h.live("heron").Get(record.Key{Name: team, Type: record.NS}).IsZero())
	assert.False(t, h.live("heron").Get(record.Key{Name: dnsname.MustParse("late." + zone.String()), Type: record.A}).IsZero())

	// Other nameservers, one of them within the zone: its address goes along as glue.
	address := evidence.AddressOf(report.Servers[0].Server).String()
	apply("child.beacon.yaml", child+"      ns1 A "+address+"\n")
	synced, err = h.Syncs.StartSync(ctx, access.Service, wire.SyncRequest{Zone: team})
	require.NoError(t, err)
	require.Equal(t, wire.SyncDone, h.ended(synced[0].ID).State)
	own := dnsname.MustParse("ns1." + team.String())
	list := []string{own.String(), act.Delegated.Wanted[0].String()}
	plan, err = h.Delegations.Preview(ctx, access.Service, wire.DelegateRequest{Domain: team, Nameservers: list})
	require.NoError(t, err)
	assert.Equal(t, "glue", plan.Steps[0])
	act = h.finished(h.Delegations.Delegate(ctx, access.Service, wire.DelegateRequest{Domain: team, Nameservers: list, Override: []string{"nameserver-not-assigned"}}))
	require.Equal(t, wire.ActDone, act.State, act.Message)
	assert.Len(t, act.Requests, 2)
	for _, kind := range []string{"heron", "curlew"} {
		assert.Equal(t, []record.Data{record.Data(address)}, h.live(kind).Get(record.Key{Name: own, Type: record.A}).Data, kind)
	}

	// Back again: what the child does not need any more goes from the parent.
	act = h.finished(h.Delegations.Delegate(ctx, access.Service, wire.DelegateRequest{Domain: team, Undo: true}))
	require.Equal(t, wire.ActDone, act.State, act.Message)
	assert.True(t, h.live("heron").Get(record.Key{Name: own, Type: record.A}).IsZero(), "the glue is gone")
}
