package service_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/change"
	"beacon/core/record"
	"beacon/wire"
)

// An instance ended while a request was on its way and the one before it, which the provider had confirmed, was not recorded yet. What the first did
// does not show any more, since the second changed the same set: both count as done, and nothing is sent for them again.
func TestConfirmedRequestsThatWereNotRecorded(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.1")
	first := h.sync(wire.SyncRequest{})
	require.Equal(t, wire.SyncDone, first.State)
	key := record.Key{Name: set(t, "www", record.A, "192.0.2.1").Name, Type: record.A}
	one := h.live("heron").Get(key)
	at := func(data record.Data) record.Set { return record.NewSet(key.Name, key.Type, one.TTL, data) }
	db := database(t, h.settings.Database)
	for _, step := range []change.Step{{Before: one, After: at("192.0.2.5")}, {Before: at("192.0.2.5"), After: at("192.0.2.9")}} {
		text, err := json.Marshal(change.List{step})
		require.NoError(t, err)
		_, err = db.Exec("INSERT INTO acts (kind, subject, sync_id, account_id, requested_by, state, intended, deadline, created_at) VALUES ('records', ?, ?, 1, 'admin', 'sent', ?, NOW(6), NOW(6))", zone.String(), first.ID, text)
		require.NoError(t, err)
	}
	h.byHand("heron", at("192.0.2.9"))
	before := len(h.journal("heron"))

	h.define("heron-main", "@ A 192.0.2.1\nwww A 192.0.2.9")
	done := h.sync(wire.SyncRequest{})
	require.Equal(t, wire.SyncDone, done.State, "%s %v", done.Message, done.Findings)
	requests, err := h.Overview.Requests(ctx, access.Service, first.ID)
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(requests), 2)
	for _, r := range requests[len(requests)-2:] {
		assert.Equal(t, wire.RequestDone, r.State, r.Problem)
		assert.Equal(t, 1, r.Changed)
	}
	assert.Len(t, h.journal("heron"), before, "nothing was sent")
}
