package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/wire"
)

// rec makes a record of the zone.
func rec(t *testing.T, name string, ttl uint32, typ record.Type, data string) *record.Record {
	t.Helper()
	n, err := dnsname.ParseRelative(name, zone)
	require.NoError(t, err)
	d, err := record.ParseData(typ, data, zone)
	require.NoError(t, err)
	return &record.Record{Name: n, TTL: ttl, Type: typ, Data: d}
}

func edits(list ...wire.RecordEdit) wire.DraftChange {
	return wire.DraftChange{Records: list}
}

// Two people edit one zone: the second one is told, looks again, and both changes go out together.
func TestTwoPeopleShareADraft(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.1\ncam A 192.0.2.5\n@ TXT \"v=spf1 -all\"")
	petra := access.For("petra")
	jonas := access.For("jonas")
	seen, err := h.Zones.Draft(ctx, petra, zone)
	require.NoError(t, err)
	assert.Empty(t, seen.Edits)

	first, err := h.Zones.EditDraft(ctx, petra, zone, seen.Tag, edits(wire.RecordEdit{Before: rec(t, "www", 3600, record.A, "192.0.2.1"), After: rec(t, "www", 300, record.A, "192.0.2.9")}))
	require.NoError(t, err)
	assert.Equal(t, []string{"www A 192.0.2.9"}, texts(first.Added))
	change := edits(wire.RecordEdit{After: rec(t, "gate", 60, record.A, "192.0.2.7")}, wire.RecordEdit{Before: rec(t, "cam", 3600, record.A, "192.0.2.5")})
	_, err = h.Zones.EditDraft(ctx, jonas, zone, seen.Tag, change)
	assert.Equal(t, wire.Stale, asProblem(t, err).Kind)
	assert.Contains(t, err.Error(), "petra has edits in it")
	both, err := h.Zones.EditDraft(ctx, jonas, zone, first.Tag, change)
	require.NoError(t, err)
	assert.Len(t, both.Edits, 3)
	assert.Equal(t, []string{"gate A 192.0.2.7", "www A 192.0.2.9"}, texts(both.Added))

	_, err = h.Zones.AcceptDraft(ctx, petra, zone, first.Tag, "")
	assert.Equal(t, wire.Stale, asProblem(t, err).Kind, "she has not seen what he did")
	rev, err := h.Zones.AcceptDraft(ctx, petra, zone, both.Tag, "the cam moved")
	require.NoError(t, err)
	assert.EqualValues(t, 2, rev.Number)
	assert.Equal(t, "the cam moved", rev.Reason)
	assert.Equal(t, "petra", rev.Author)
	now, err := h.Zones.Wanted(ctx, zone)
	require.NoError(t, err)
	assert.Equal(t, []string{"@ A 192.0.2.1", `@ TXT "v=spf1 -all"`, "gate A 192.0.2.7", "www A 192.0.2.9"}, texts(now.Records()))
	after, err := h.Zones.Draft(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Empty(t, after.Edits)
	_, err = h.Zones.AcceptDraft(ctx, petra, zone, after.Tag, "")
	assert.Equal(t, wire.Blocked, asProblem(t, err).Kind, "an empty draft")
}

func TestDraftEdits(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.1")
	tag := func() string {
		d, err := h.Zones.Draft(ctx, access.Service, zone)
		require.NoError(t, err)
		return d.Tag
	}
	do := func(c wire.DraftChange) (wire.Draft, error) {
		return h.Zones.EditDraft(ctx, access.Service, zone, tag(), c)
	}

	// What is added and taken out again leaves nothing.
	d, err := do(edits(wire.RecordEdit{After: rec(t, "a", 60, record.A, "192.0.2.3")}))
	require.NoError(t, err)
	require.Len(t, d.Edits, 1)
	d, err = do(edits(wire.RecordEdit{Before: rec(t, "a", 60, record.A, "192.0.2.3")}))
	require.NoError(t, err)
	assert.Empty(t, d.Edits)

	// A finding's fix, and its undoing.
	var fix []rules.Edit
	d, err = do(edits(wire.RecordEdit{Before: rec(t, "www", 3600, record.A, "192.0.2.1")}))
	require.NoError(t, err)
	for _, f := range d.Findings {
		if f.Code == "www-missing" {
			fix = f.Fix
		}
	}
	require.NotEmpty(t, fix)
	d, err = do(wire.DraftChange{Sets: fix})
	require.NoError(t, err)
	assert.Equal(t, []string{"www CNAME saltmarsh-ferries.example."}, texts(d.Added))
	d, err = do(wire.DraftChange{Undo: []record.Key{fix[0].After.Key()}})
	require.NoError(t, err)
	assert.Len(t, d.Edits, 1)

	for _, c := range []struct {
		change wire.DraftChange
		kind   wire.ProblemKind
		says   string
	}{
		{edits(wire.RecordEdit{Before: rec(t, "gone", 60, record.A, "192.0.2.3")}), wire.Stale, "not there any more"},
		{edits(wire.RecordEdit{After: rec(t, "x.other.example.", 60, record.A, "192.0.2.3")}), wire.Invalid, "does not lie in the zone"},
		{edits(wire.RecordEdit{After: rec(t, "@", 60, record.NS, "a.b.")}), wire.Invalid, "belong to the provider"},
		{edits(wire.RecordEdit{After: rec(t, "@", 3600, record.A, "192.0.2.1")}), wire.Invalid, "there already"},
		{edits(wire.RecordEdit{After: &record.Record{Name: zone, Type: record.A, Data: "web"}}), wire.Invalid, "no IP address"},
		{edits(wire.RecordEdit{After: &record.Record{}}), wire.Invalid, "a name, a type and data"},
		{wire.DraftChange{Sets: []rules.Edit{{Before: record.NewSet(zone, record.A, 1, "192.0.2.1")}}}, wire.Stale, "not what it was"},
	} {
		_, err := do(c.change)
		p := asProblem(t, err)
		assert.Equal(t, c.kind, p.Kind, c.says)
		assert.Contains(t, p.Message, c.says)
	}

	// What no nameserver could serve stays in the draft and is not put out.
	d, err = do(edits(wire.RecordEdit{After: rec(t, "@", 60, record.CNAME, "x.other.example.")}))
	require.NoError(t, err)
	_, err = h.Zones.AcceptDraft(ctx, access.Service, zone, d.Tag, "")
	assert.NotEmpty(t, asProblem(t, err).Findings)
	require.NoError(t, h.Zones.DiscardDraft(ctx, access.Service, zone, d.Tag))
	d, err = h.Zones.Draft(ctx, access.Service, zone)
	require.NoError(t, err)
	assert.Empty(t, d.Edits)
}

// What somebody changed past the draft is not overwritten by it.
func TestDraftIsOverrun(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "www A 192.0.2.1\ncam A 192.0.2.1")
	d, err := h.Zones.Draft(ctx, access.Service, zone)
	require.NoError(t, err)
	_, err = h.Zones.EditDraft(ctx, access.Service, zone, d.Tag, edits(wire.RecordEdit{Before: rec(t, "www", 3600, record.A, "192.0.2.1"), After: rec(t, "www", 60, record.A, "192.0.2.2")}))
	require.NoError(t, err)
	h.define("heron-main", "www A 192.0.2.7\ncam A 192.0.2.1")
	d, err = h.Zones.Draft(ctx, access.Service, zone)
	require.NoError(t, err)
	require.Len(t, d.Overrun, 1)
	_, err = h.Zones.AcceptDraft(ctx, access.Service, zone, d.Tag, "")
	p := asProblem(t, err)
	assert.Equal(t, wire.Blocked, p.Kind)
	assert.Equal(t, "changed-since", p.Findings[0].Code)
}
