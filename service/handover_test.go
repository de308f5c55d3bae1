package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/handover"
	"beacon/wire"
)

// atPlover is a domain whose zone is placed and delegated at Plover, and synced there.
func atPlover(t *testing.T, records string) house {
	t.Helper()
	h := newHouse(t)
	h.register()
	h.define("plover-old", records)
	done := h.sync(wire.SyncRequest{})
	require.Equal(t, wire.SyncDone, done.State, "%+v", done)
	return h
}

// moving waits until the handover of the zone is as it should be, and skips simulated time where nothing else is due.
func (h house) moving(skip bool, is func(wire.Handover) bool) (v wire.Handover) {
	h.t.Helper()
	ok := assert.Eventually(h.t, func() bool {
		var err error
		v, err = h.Handover.Show(ctx, access.Service, zone)
		require.NoError(h.t, err)
		if is(v) {
			return true
		}
		if skip {
			_, err := h.StepClock(ctx, access.Service, h.now().Add(24*time.Hour))
			require.NoError(h.t, err)
		}
		return false
	}, 60*time.Second, 50*time.Millisecond)
	require.True(h.t, ok, "%+v", v)
	return v
}

func (h house) now() time.Time { now, _ := h.WorldNow(); return now }

func asks(kind handover.AskKind, do handover.Do) func(wire.Handover) bool {
	return func(v wire.Handover) bool { return v.Asked != nil && v.Asked.Kind == kind && v.Asked.Do == do }
}

func doneWith(v wire.Handover) bool { return v.State == wire.HandoverDone }

// A plain move: begun, the nameservers allowed, the removal of the old zone allowed. Everything between is done by itself.
func TestHandover(t *testing.T) {
	t.Parallel()
	h := atPlover(t, "@ 60 A 192.0.2.1\nwww 60 A 192.0.2.1\n@ 300 MX 10 mail.post.example.\n@ TXT \"this zone is new at Plover\"")
	before := h.active()
	begun, err := h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main", Reason: "a better network"})
	require.NoError(t, err)
	assert.Equal(t, "plover-old", begun.From)
	assert.Equal(t, before, begun.Old)
	_, err = h.Handover.Begin(ctx, access.Service, wire.HandoverRequest{Domain: zone, To: "heron-main"})
	assert.ErrorContains(t, err, "beacon handover next saltmarsh-ferries.example", "one at a time")
	_, err = h.Delegations.Delegate(ctx, access.Service, wire.DelegateRequest{Domain: zone})
	assert.ErrorContains(t, err, "beacon handover next saltmarsh-ferries.example", "delegate leaves it to the handover")

	v := h.moving(false, asks(handover.AskAllow, handover.DoDelegate))
	assert.Equal(t, handover.Ready, v.Phase)
	assert.Empty(t, v.Compared.Differences)
	assert.Positive(t, v.Compared.Names)
	assert.True(t, v.Back.Cheap)
	assert.Equal(t, before, h.active(), "nothing was asked of the registrar")
	_, err = h.Handover.Next(ctx, access.Service, wire.HandoverWord{Domain: zone})
	require.NoError(t, err)
	v = h.moving(true, asks(handover.AskAllow, handover.DoRetire))
	assert.Equal(t, v.New, h.active())
	assert.NotEqual(t, before, h.active())
	assert.Equal(t, 1, h.zonesNamed("plover"), "the old zone stays until it is allowed to go")
	_, err = h.Handover.Next(ctx, access.Service, wire.HandoverWord{Domain: zone})
	require.NoError(t, err)
	v = h.moving(true, doneWith)
	assert.Zero(t, h.zonesNamed("plover"))
	assert.Nil(t, v.Asked)
	assert.NotEmpty(t, v.Report)
	for _, step := range v.Steps {
		assert.Equal(t, wire.StepDone, step.State, "%+v", step)
	}
	t.Logf("%+v", v.Steps)
	_, err = h.Delegations.Preview(ctx, access.Service, wire.DelegateRequest{Domain: zone})
	assert.NoError(t, err, "it is over")
}
