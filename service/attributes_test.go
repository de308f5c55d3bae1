package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/provider"
	"beacon/wire"
)

// Attributes of sets are edited in drafts like records: they are part of revisions, and of what is restored.
func TestAttributesInDrafts(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.2")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Zone: zone}).State)
	www := record.Key{Name: dnsname.MustParse("www.saltmarsh-ferries.example"), Type: record.A}
	relay := func() string {
		z, _, err := provider.FindZone(ctx, h.direct("heron"), zone)
		require.NoError(t, err)
		state, err := provider.ReadAll(ctx, h.direct("heron"), z.Ref, provider.State{})
		require.NoError(t, err)
		return state.Details[www].Attributes["relay"]
	}
	declare := func(set, value string) (wire.Draft, error) {
		d, err := h.Zones.Draft(ctx, access.Service, zone)
		require.NoError(t, err)
		return h.Zones.EditDraft(ctx, access.Service, zone, d.Tag, wire.DraftChange{Attributes: []wire.SetAttribute{{Set: set, Name: "relay", Value: value}}})
	}
	accept := func(d wire.Draft) wire.Revision {
		rev, err := h.Zones.AcceptDraft(ctx, access.Service, zone, d.Tag, "the relay")
		require.NoError(t, err)
		require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Zone: zone}).State)
		return rev
	}
	assert.Equal(t, "off", relay())
	_, err := declare("nothing A", "on")
	assert.ErrorContains(t, err, "There is no set nothing A")
	_, err = declare("www", "on")
	assert.ErrorContains(t, err, "Write it like www A")

	d, err := declare("www A", "on")
	require.NoError(t, err)
	require.Len(t, d.Edits, 1)
	assert.Equal(t, []wire.AttributeChange{{Set: "www A", Name: "relay", After: "on"}}, d.Edits[0].Attributes)
	d, err = declare("www A", "")
	require.NoError(t, err)
	assert.Empty(t, d.Edits, "back where it began")
	d, err = declare("www A", "on")
	require.NoError(t, err)
	assert.EqualValues(t, 2, accept(d).Number)
	assert.Equal(t, "on", relay())

	// An edit of its records beside it leaves the declaration.
	d, err = h.Zones.Draft(ctx, access.Service, zone)
	require.NoError(t, err)
	before, after := record.Record{Name: www.Name, Type: record.A, TTL: 3600, Data: "192.0.2.2"}, record.Record{Name: www.Name, Type: record.A, TTL: 3600, Data: "192.0.2.3"}
	wanted, err := h.Zones.Wanted(ctx, zone)
	require.NoError(t, err)
	before.TTL, after.TTL = wanted.Get(www).TTL, wanted.Get(www).TTL
	d, err = h.Zones.EditDraft(ctx, access.Service, zone, d.Tag, wire.DraftChange{Records: []wire.RecordEdit{{Before: &before, After: &after}}})
	require.NoError(t, err)
	d, err = declare("www A", "off")
	require.NoError(t, err)
	require.Len(t, d.Edits, 1)
	assert.EqualValues(t, 3, accept(d).Number)
	assert.Equal(t, "off", relay())

	compared, err := h.Zones.CompareRevisions(ctx, access.Service, zone, 1, 3)
	require.NoError(t, err)
	assert.Equal(t, []wire.AttributeChange{{Set: "www A", Name: "relay", After: "off"}}, compared.Attributes)
	history, err := h.Zones.NameHistory(ctx, access.Service, zone, www.Name)
	require.NoError(t, err)
	require.Len(t, history, 3)
	assert.Equal(t, []wire.AttributeChange{{Set: "www A", Name: "relay", Before: "on", After: "off"}}, history[0].Attributes)
	assert.Empty(t, history[1].Added)
	assert.Equal(t, []wire.AttributeChange{{Set: "www A", Name: "relay", After: "on"}}, history[1].Attributes)

	rev, err := h.Zones.Restore(ctx, access.Service, zone, 2, "on again")
	require.NoError(t, err)
	assert.EqualValues(t, 4, rev.Number)
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{Zone: zone}).State)
	assert.Equal(t, "on", relay())
	settings := func() wire.ZoneSettings {
		v, err := h.Overview.Zone(ctx, access.Service, zone)
		require.NoError(t, err)
		return v.Settings
	}
	v := settings()
	assert.Equal(t, []wire.SetAttribute{{Set: "www A", Name: "relay", Value: "on"}}, v.Attributes)

	// Who edits attributes that somebody else changed meanwhile has to look again.
	_, err = declare("www A", "off")
	require.NoError(t, err)
	v.Attributes[0].Value = "auto"
	_, err = h.Zones.SetZoneSettings(ctx, access.Service, zone, v, func(wire.ZoneSettings) error { return nil })
	require.NoError(t, err)
	d, err = h.Zones.Draft(ctx, access.Service, zone)
	require.NoError(t, err)
	require.Len(t, d.Overrun, 1)
	_, err = h.Zones.AcceptDraft(ctx, access.Service, zone, d.Tag, "")
	assert.ErrorContains(t, err, "have changed since then")
	require.NoError(t, h.Zones.DiscardDraft(ctx, access.Service, zone, d.Tag))

	// What the settings declare is a revision too; a set that goes takes its attributes along.
	v.Attributes[0].Value = "off"
	_, err = h.Zones.SetZoneSettings(ctx, access.Service, zone, v, func(wire.ZoneSettings) error { return nil })
	require.NoError(t, err)
	list, err := h.Zones.Revisions(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.EqualValues(t, 6, list[0].Number)
	assert.Equal(t, "settings", list[0].Source)
	d, err = h.Zones.Draft(ctx, access.Service, zone)
	require.NoError(t, err)
	before = record.Record{Name: www.Name, Type: record.A, TTL: before.TTL, Data: "192.0.2.2"}
	d, err = h.Zones.EditDraft(ctx, access.Service, zone, d.Tag, wire.DraftChange{Records: []wire.RecordEdit{{Before: &before}}})
	require.NoError(t, err)
	_, err = h.Zones.AcceptDraft(ctx, access.Service, zone, d.Tag, "")
	require.NoError(t, err)
	assert.Empty(t, settings().Attributes)
}
