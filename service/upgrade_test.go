package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/record"
	"beacon/wire"
)

// before turns the tables of acts back into those of the version before there were any.
var before = []string{
	"DROP TABLE locks",
	`CREATE TABLE intents (id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, sync_id BIGINT UNSIGNED NOT NULL, steps MEDIUMTEXT NOT NULL, before_fp VARCHAR(64) NOT NULL,
		after_fp VARCHAR(64) NOT NULL, state VARCHAR(16) NOT NULL, deadline DATETIME(6) NOT NULL, problem TEXT NOT NULL, created_at DATETIME(6) NOT NULL, finished_at DATETIME(6) NULL,
		receipt VARCHAR(255) NOT NULL DEFAULT '', KEY intents_sync (sync_id, state), CONSTRAINT intents_sync FOREIGN KEY (sync_id) REFERENCES syncs (id) ON DELETE CASCADE)`,
	`INSERT INTO intents SELECT id, sync_id, intended, '', '', CASE state WHEN 'not-applied' THEN 'not done' WHEN 'partial' THEN 'partly' ELSE state END, deadline, problem, created_at,
		finished_at, receipt FROM acts WHERE kind = 'records'`,
	"DROP TABLE acts",
	"DELETE FROM migrations WHERE number > 50",
}

// A database of the version before acts, with a sync that runs and a request on its way, is brought up to date, and the sync is finished.
func TestUpgradeInTheMiddleOfASync(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.define("heron-main", "@ A 192.0.2.1")
	first := h.sync(wire.SyncRequest{})
	require.Equal(t, wire.SyncDone, first.State)
	h.define("heron-main", "@ A 192.0.2.2\nwww A 192.0.2.2")
	h.stop()

	db := database(t, h.settings.Database)
	for _, statement := range before {
		_, err := db.Exec(statement)
		require.NoError(t, err, statement)
	}
	// The request was sent and done, and the service ended before it knew: the provider has what it says.
	h.byHand("heron", set(t, "@", record.A, "192.0.2.2"))
	res, err := db.Exec(`INSERT INTO syncs (placement_id, revision_id, state, drift, allowed, expected, total, added, changed, removed, requests, message, findings, requested_by, created_at, scope)
		SELECT placement_id, (SELECT MAX(id) FROM revisions), 'running', 0, '[]', '', 2, 0, 0, 0, 0, '', '[]', 'keeper', NOW(6), '' FROM syncs ORDER BY id LIMIT 1`)
	require.NoError(t, err)
	id, err := res.LastInsertId()
	require.NoError(t, err)
	_, err = db.Exec("INSERT INTO intents (sync_id, steps, before_fp, after_fp, state, deadline, problem, created_at) VALUES (?, ?, '', '', 'sent', NOW(6), '', NOW(6))", id,
		`[{"before":{"name":"saltmarsh-ferries.example.","type":"A","ttl":60,"data":["192.0.2.1"]},"after":{"name":"saltmarsh-ferries.example.","type":"A","ttl":60,"data":["192.0.2.2"]},"why":""}]`)
	require.NoError(t, err)
	_, err = db.Exec("INSERT INTO jobs (kind, subject, lane, state, due_at, holder, attempts, problem) VALUES ('sync', ?, 1, 'open', NOW(6), 'gone', 1, '')", id)
	require.NoError(t, err)

	after := instance(t, h.settings)
	var done wire.SyncView
	require.Eventually(t, func() bool {
		done, err = after.Syncs.Sync(ctx, uint64(id))
		require.NoError(t, err)
		return done.State.Ended()
	}, 20*time.Second, 50*time.Millisecond)
	assert.Equal(t, wire.SyncDone, done.State, done.Message)
	assert.Equal(t, 2, done.Changed, "what the request did counts as done by it; its TTL is corrected by another")
	assert.Equal(t, 1, done.Added)
	requests, err := after.Syncs.Requests(ctx, uint64(id))
	require.NoError(t, err)
	require.Len(t, requests, 2, "nothing is sent twice")
	assert.Equal(t, wire.RequestDone, requests[0].State)
	old, err := after.Syncs.Requests(ctx, first.ID)
	require.NoError(t, err)
	assert.Equal(t, "records", old[len(old)-1].Kind, "what was sent before the upgrade is kept")
}
