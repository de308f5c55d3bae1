package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/delegation"
	"beacon/wire"
)

// A domain without a registrar account is moved by hand: what to enter is shown, and how far it got is seen at the parent, within one check each.
func TestDelegationByHand(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.register()
	text := "zones:\n  saltmarsh-ferries.example:\n    providers: [heron-main]\n    records: |\n      @ A 192.0.2.1\n      www A 192.0.2.1\n"
	_, err := h.Apply.Apply(ctx, access.Service, wire.ApplyRequest{Files: []definition.File{{Name: "test.beacon.yaml", Text: text}}})
	require.NoError(t, err)
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	plan, err := h.Delegations.Preview(ctx, access.Service, wire.DelegateRequest{Domain: zone})
	require.NoError(t, err)
	require.NotNil(t, plan.ByHand, "no registrar is named")
	require.Equal(t, []string{"sides-differ"}, codes(plan.Closed), "Plover begins a zone with a record of its own")
	assert.Len(t, plan.ByHand.Names, 4)
	assert.Equal(t, plan.ByHand.Names[0]+".", plan.ByHand.WithDot[0])
	assert.Equal(t, "The parent serves the old list.", plan.ByHand.Entered.Say)

	act := h.delegate(wire.DelegateRequest{Agree: plan.Digest})
	require.Equal(t, wire.ActDone, act.State, act.Message)
	assert.Empty(t, act.Requests, "nobody was asked to change anything")
	require.NotNil(t, act.Delegated.ByHand)

	names := plan.ByHand.Names
	enter := func(list ...string) {
		h.control("/domains", map[string]any{"domain": "saltmarsh-ferries.example", "hosts": list})
	}
	for _, c := range []struct {
		enter []string
		say   string
		code  string
		ends  delegation.Verdict
	}{
		{nil, "The parent still serves the old list: the new one is not entered, or it is saved at the registrar and not active.", "parent-serves-other-set", delegation.NeedsAction},
		{names[:3], "3 of 4 entered, missing: " + names[3] + ".", "parent-set-incomplete", ""},
		{[]string{names[0], names[1], names[2], "quai" + names[3][4:]}, "Typing error: quai" + names[3][4:] + " should be " + names[3] + ".", "nameserver-misspelt", delegation.NeedsAction},
		{names, "The parent serves all 4 new nameservers.", "", delegation.Settling},
	} {
		if c.enter != nil {
			enter(c.enter...)
		}
		report, err := h.Checks.Check(ctx, access.Service, zone)
		require.NoError(t, err)
		if c.code != "" {
			assert.Contains(t, codes(report.Findings), c.code)
		}
		if c.ends != "" {
			assert.Equal(t, c.ends, report.Verdict, "%s: %v", c.say, codes(report.Findings))
		}
		now, err := h.Delegations.Preview(ctx, access.Service, wire.DelegateRequest{Domain: zone})
		require.NoError(t, err)
		assert.Equal(t, c.say, now.ByHand.Entered.Say)
	}
}
