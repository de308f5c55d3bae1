package service_test

import (
	"context"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/change"
	"beacon/core/diff"
	"beacon/core/record"
	"beacon/provider"
	"beacon/wire"
)

// fussy is a provider that writes TTLs its own way, in whole hundreds, and tells nobody.
type fussy struct{ provider.Driver }

func (f fussy) Apply(ctx context.Context, zone provider.ZoneRef, batch change.Batch) (provider.Receipt, error) {
	batch.Steps = slices.Clone(batch.Steps)
	for i := range batch.Steps {
		batch.Steps[i].After.TTL = (batch.Steps[i].After.TTL + 99) / 100 * 100
	}
	return f.Driver.Apply(ctx, zone, batch)
}

// A provider that gives back other than it was given does not drift for ever, and real drift there is still seen.
func TestProviderThatWritesItsOwnWay(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	_, err := h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: "fussy-main", Role: wire.RoleProvider, Kind: "fussy", Address: h.world.URL("heron"), Secret: "heron-practice-key"})
	require.NoError(t, err)
	h.define("fussy-main", "@ 130 A 192.0.2.1\nwww 200 A 192.0.2.1")
	done := h.sync(wire.SyncRequest{})
	require.Equal(t, wire.SyncDone, done.State, done.Message)
	assert.Empty(t, done.Findings)
	assert.EqualValues(t, 200, h.live("heron").Get(record.Key{Name: zone, Type: record.A}).TTL)
	for range 2 {
		list, err := h.Syncs.Differences(ctx, access.Service, zone, false)
		require.NoError(t, err)
		assert.Empty(t, list[0].Steps)
		assert.Empty(t, list[0].Drift)
		assert.Zero(t, h.sync(wire.SyncRequest{}).Requests)
	}
	// A write that broke off after it was done is recognised there too.
	h.fault(`{"site":"4.1","cut_after":true,"writes":true,"count":1}`)
	h.define("fussy-main", "@ 130 A 192.0.2.1\nwww 200 A 192.0.2.1\ncut 150 A 192.0.2.1")
	broken := h.sync(wire.SyncRequest{})
	require.Equal(t, wire.SyncDone, broken.State, "%s %v", broken.Message, broken.Findings)
	assert.Equal(t, 1, broken.Requests)
	h.define("fussy-main", "@ 130 A 192.0.2.1\nwww 200 A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Allow: []string{diff.GuardNamesStop}}).State)

	h.byHand("heron", record.NewSet(zone, record.A, 300, "192.0.2.1"))
	list, err := h.Syncs.Differences(ctx, access.Service, zone, false)
	require.NoError(t, err)
	require.Len(t, list[0].Drift, 1, "a change by hand is drift all the same")
	h.define("fussy-main", "@ 130 A 192.0.2.1\nwww 200 A 192.0.2.7")
	changed := h.sync(wire.SyncRequest{Revert: true})
	require.Equal(t, wire.SyncDone, changed.State, changed.Message)
	assert.Equal(t, 2, changed.Changed)
	list, err = h.Syncs.Differences(ctx, access.Service, zone, false)
	require.NoError(t, err)
	assert.Empty(t, list[0].Drift)
}

// deaf is a provider that confirms writes of one name and does not make them.
type deaf struct{ provider.Driver }

// SOA returns the fields of the SOA record, of which writes are lost, too.
func (d deaf) SOA(ctx context.Context, zone provider.ZoneRef) (record.Set, error) {
	return d.Driver.(provider.Authority).SOA(ctx, zone)
}

func (d deaf) Apply(ctx context.Context, zone provider.ZoneRef, batch change.Batch) (provider.Receipt, error) {
	batch.Steps = slices.DeleteFunc(slices.Clone(batch.Steps), func(s change.Step) bool { return s.Key().Name.Labels()[0] == "lost" || s.Key().Type == record.SOA })
	if len(batch.Steps) == 0 {
		return provider.Receipt{Done: true}, nil
	}
	return d.Driver.Apply(ctx, zone, batch)
}

// A write that is confirmed and shows nowhere blocks the sync, and is not made over and over; so does a removal.
func TestAWriteThatDoesNotShow(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	_, err := h.Accounts.AddAccount(ctx, access.Service, wire.NewAccount{Name: "deaf-main", Role: wire.RoleProvider, Kind: "deaf", Address: h.world.URL("heron"), Secret: "heron-practice-key"})
	require.NoError(t, err)
	h.define("deaf-main", "@ 130 A 192.0.2.1")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	h.define("deaf-main", "@ 130 A 192.0.2.1\nlost 130 A 192.0.2.2\nwww 130 A 192.0.2.3")
	for range 2 {
		held := h.sync(wire.SyncRequest{Revert: true})
		require.Equal(t, wire.SyncBlocked, held.State, held.Message)
		require.Len(t, held.Findings, 1)
		assert.Equal(t, diff.GuardUnshown, held.Findings[0].Code)
		assert.Contains(t, held.Message, "lost.saltmarsh-ferries.example")
		assert.Equal(t, 1, held.Requests)
	}
	assert.False(t, h.live("heron").Get(set(t, "www", record.A, "x").Key()).IsZero(), "the rest is written")
}

// unsigned is a provider that keeps common types only, and no DS.
type unsigned struct{ provider.Driver }

func (u unsigned) Describe(ctx context.Context, zone provider.ZoneRef) (change.Caps, error) {
	caps, err := u.Driver.Describe(ctx, zone)
	caps.Types = []record.Type{record.A, record.AAAA, record.NS, record.CNAME, record.MX, record.TXT}
	return caps, err
}
