package service_test

import (
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/access"
	"beacon/core/record"
	"beacon/provider"
	"beacon/store/storetest"
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
	"ALTER TABLE hosts ADD COLUMN token_hash BINARY(32) NOT NULL",
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
		SELECT placement_id, (SELECT MAX(id) FROM revisions), 'running', 0, '[]', '', 2, 0, 0, 0, 0, '', '[]', 'admin', NOW(6), '' FROM syncs ORDER BY id LIMIT 1`)
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
		done, err = after.Overview.Sync(ctx, access.Service, uint64(id))
		require.NoError(t, err)
		return done.State.Ended()
	}, 2*time.Minute, 50*time.Millisecond)
	assert.Equal(t, wire.SyncDone, done.State, done.Message)
	assert.Equal(t, 2, done.Changed, "what the request did counts as done by it; its TTL is corrected by another")
	assert.Equal(t, 1, done.Added)
	requests, err := after.Overview.Requests(ctx, access.Service, uint64(id))
	require.NoError(t, err)
	require.Len(t, requests, 2, "nothing is sent twice")
	assert.Equal(t, wire.RequestDone, requests[0].State)
	old, err := after.Overview.Requests(ctx, access.Service, first.ID)
	require.NoError(t, err)
	assert.Equal(t, "records", old[len(old)-1].Kind, "what was sent before the upgrade is kept")
}

// dumpKey is the key that the practice credentials in testdata/before-acts.sql are sealed with.
const dumpKey = "749e6d297fc31d05c9b60d3c6339391b7a0e159124704d9eb831eecbc07b1f21"

// A dump that the program of the version before acts left is migrated and finished: one sync runs, and one of its requests is on its way.
func TestUpgradeFromADump(t *testing.T) {
	t.Parallel()
	h := newHouse(t)
	h.stop()
	settings := h.settings
	settings.Database, settings.KeyFile = storetest.Settings(t), filepath.Join(t.TempDir(), "key")
	key, err := hex.DecodeString(dumpKey)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(settings.KeyFile, key, 0o600))
	text, err := os.ReadFile("testdata/before-acts.sql")
	require.NoError(t, err)
	db, err := database(t, settings.Database).Conn(ctx)
	require.NoError(t, err)
	defer db.Close()
	run := func(statement string, args ...any) {
		_, err := db.ExecContext(ctx, statement, args...)
		require.NoError(t, err, "%.200s", statement)
	}
	run("SET FOREIGN_KEY_CHECKS = 0")
	for statement := range strings.SplitSeq(strings.TrimSpace(string(text)), ";\n") {
		run(strings.TrimSuffix(statement, ";"))
	}
	run("SET FOREIGN_KEY_CHECKS = 1")

	// The practice world is another one: its addresses, and the zone as that request left it there.
	for _, kind := range []string{"heron", "curlew", "plover", "gannet"} {
		run("UPDATE accounts SET address = ? WHERE kind = ?", h.world.URL(kind), kind)
	}
	made, err := h.direct("heron").Create(ctx, zone, provider.ZoneOptions{})
	require.NoError(t, err)
	run("UPDATE placements SET remote_id = ?", made.Ref.ID)
	address := func(label string, data record.Data) record.Set {
		s := set(t, label, record.A, data)
		s.TTL = 3600
		return s
	}
	h.byHand("heron", address("@", "192.0.2.2"), address("www", "192.0.2.2"))

	after := instance(t, settings)
	var done wire.SyncView
	require.Eventually(t, func() bool {
		done, err = after.Overview.Sync(ctx, access.Service, 2)
		require.NoError(t, err)
		return done.State.Ended()
	}, 2*time.Minute, 50*time.Millisecond)
	assert.Equal(t, wire.SyncDone, done.State, done.Message)
	requests, err := after.Overview.Requests(ctx, access.Service, 2)
	require.NoError(t, err)
	require.Len(t, requests, 1, "it was sent, and is not sent again")
	assert.Equal(t, wire.RequestDone, requests[0].State)
	assert.Equal(t, []int{1, 1}, []int{done.Added, done.Changed})
	old, err := after.Overview.Requests(ctx, access.Service, 1)
	require.NoError(t, err)
	require.Len(t, old, 1, "what was sent before the upgrade is kept")
}
