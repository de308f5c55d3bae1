package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/wire"
)

func texts(list []record.Record) (out []string) {
	for _, r := range list {
		out = append(out, r.Name.Relative(zone)+" "+r.Type.String()+" "+string(r.Data))
	}
	return out
}

func TestRevisionsAreComparedAndRestored(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.1\ngate A 192.0.2.7")
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.2\ngate A 192.0.2.7")
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.2")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)

	d, err := h.Zones.CompareRevisions(ctx, access.Service, zone, 1, 3)
	require.NoError(t, err)
	assert.Equal(t, []string{"www A 192.0.2.2"}, texts(d.Added))
	assert.Equal(t, []string{"gate A 192.0.2.7", "www A 192.0.2.1"}, texts(d.Removed))
	assert.Equal(t, 1, d.Same)
	d, err = h.Zones.CompareRevisions(ctx, access.Service, zone, 0, 1)
	require.NoError(t, err)
	assert.Len(t, d.Added, 3)
	_, err = h.Zones.CompareRevisions(ctx, access.Service, zone, 1, 9)
	assert.Equal(t, wire.NotFound, asProblem(t, err).Kind)

	www := dnsname.MustParse("www.saltmarsh-ferries.example")
	list, err := h.Zones.NameHistory(ctx, access.Service, zone, www)
	require.NoError(t, err)
	require.Len(t, list, 2, "revision 3 did not touch it")
	assert.EqualValues(t, 2, list[0].Revision.Number)
	assert.Equal(t, []string{"www A 192.0.2.1"}, texts(list[0].Removed))
	assert.EqualValues(t, 1, list[1].Revision.Number)
	assert.Empty(t, list[1].Removed)

	rev, err := h.Zones.Restore(ctx, access.Service, zone, 1, "")
	require.NoError(t, err)
	assert.EqualValues(t, 4, rev.Number)
	assert.Equal(t, "revision 1", rev.Source)
	d, err = h.Zones.CompareRevisions(ctx, access.Service, zone, 1, 4)
	require.NoError(t, err)
	assert.Empty(t, append(d.Added, d.Removed...))
	assert.Equal(t, 2, h.live("heron").Len(), "restoring writes nothing by itself")
	require.Equal(t, wire.SyncDone, h.sync(wire.SyncRequest{}).State)
	assert.Equal(t, 3, h.live("heron").Len())
	_, err = h.Zones.Restore(ctx, access.Service, zone, 1, "")
	assert.Equal(t, wire.Blocked, asProblem(t, err).Kind, "it says so already")
}
