package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/wire"
)

// A lock at the registrar closes a gate, whose remedy lifts it. Setting and lifting are acts: done once, also where an answer is lost, and one that
// finds itself done sends nothing.
func TestLocksAtTheRegistrar(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.register()
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	change := func(lift bool) wire.Act {
		return h.finished(h.Delegations.ChangeLock(ctx, access.Service, wire.LockRequest{Domain: zone, Lift: lift, Reason: "a test"}))
	}
	look := func(lift bool) wire.LockChange {
		l, err := h.Delegations.PreviewLock(ctx, access.Service, wire.LockRequest{Domain: zone, Lift: lift})
		require.NoError(t, err)
		return l
	}
	assert.True(t, look(false).Pending)
	assert.False(t, look(true).Pending)
	act := change(false)
	require.Equal(t, wire.ActDone, act.State, act.Message)
	assert.Equal(t, `The status "client update prohibited" is set.`, act.Message)
	require.Len(t, act.Requests, 1)
	assert.Equal(t, []string{wire.UpdateLock}, look(true).Before)

	act = change(false)
	assert.Equal(t, wire.ActDone, act.State)
	assert.Empty(t, act.Requests, "it is set already")

	blocked := h.delegate(wire.DelegateRequest{})
	require.Equal(t, wire.ActBlocked, blocked.State)
	require.NotEmpty(t, blocked.Findings)
	assert.Equal(t, "registrar-locked", blocked.Findings[0].Code)
	assert.Contains(t, blocked.Findings[0].Remedy, "beacon registrar unlock saltmarsh-ferries.example")

	h.fault(`{"site":"3.1","cut_after":true,"writes":true,"count":1}`) // done, and the answer is lost
	act = change(true)
	require.Equal(t, wire.ActDone, act.State, act.Message)
	require.Len(t, act.Requests, 1)
	assert.Equal(t, wire.ActDone, act.Requests[0].State)
	assert.NotEmpty(t, act.Requests[0].Problem, "what became of it was looked for")
	require.NotNil(t, act.Lock)
	assert.Empty(t, act.Lock.Before)
	moved := h.delegate(wire.DelegateRequest{Override: []string{"sides-differ"}, Reason: "a test"})
	assert.Equal(t, wire.ActDone, moved.State, "%v", moved.Findings)

	for status, says := range map[string]string{"server update prohibited": "no status that a registrar sets", "active": "no status that a registrar sets"} {
		_, err := h.Delegations.ChangeLock(ctx, access.Service, wire.LockRequest{Domain: zone, Status: status})
		assert.Contains(t, asProblem(t, err).Message, says)
	}
	h.otherZone(dnsname.MustParse("tides.test"), "@ A 192.0.2.1")
	_, err := h.Delegations.PreviewLock(ctx, access.Service, wire.LockRequest{Domain: dnsname.MustParse("tides.test"), Lift: true})
	assert.Error(t, err)
}

// An operation that a registrar accepted and failed later ends the act with the registrar's words; nothing has changed, and another list goes through.
func TestOperationThatFailsLater(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	old := []string{"moor-11.whimbrel.test", "moor-12.whimbrel.test"}
	h.control("/domains", map[string]any{"domain": "saltmarsh-ferries.example", "hosts": old, "registrar": "skua"})
	_, err := h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: "skua-names", Role: wire.RoleRegistrar, Kind: "skua", Address: h.world.URL("skua"), Secret: "skua-practice-key"})
	require.NoError(t, err)
	text := "zones:\n  saltmarsh-ferries.example:\n    providers: [heron-main]\n    registrar: skua-names\n    records: |\n      @ A 192.0.2.1\n      ns1 A " + h.world.IP("4.11") + "\n"
	_, err = h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "test.beacon.yaml", Text: text}}})
	require.NoError(t, err)
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	v, err := h.Overview.Zone(ctx, access.Service, zone)
	require.NoError(t, err)
	heron := v.Placements[0].Nameservers
	active := func() (list []string) {
		all, err := h.Accounts.Registrations(ctx, access.Service, "skua-names")
		require.NoError(t, err)
		for _, n := range all[0].Active {
			list = append(list, dnsname.Short(n))
		}
		return list
	}
	override := []string{"sides-differ", "nameserver-not-assigned", "nameserver-not-ready"}
	act := h.delegate(wire.DelegateRequest{Nameservers: []string{"ns1.saltmarsh-ferries.example", heron[0].String()}, Override: override, Reason: "a test"})
	assert.Equal(t, wire.ActFailed, act.State, "%s %v", act.Message, act.Findings)
	assert.Contains(t, act.Message, "ns1.saltmarsh-ferries.example. needs an address at the registry")
	assert.Equal(t, old, active(), "nothing was changed")

	act = h.delegate(wire.DelegateRequest{Nameservers: []string{heron[0].String(), heron[1].String()}, Override: override, Reason: "a test"})
	require.Equal(t, wire.ActDone, act.State, "%s %v", act.Message, act.Findings)
	assert.Equal(t, []string{dnsname.Short(heron[0]), dnsname.Short(heron[1])}, active())
}
