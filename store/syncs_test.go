package store_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/store"
	"beacon/store/storetest"
)

// A sync of a zone goes on after the sync of hosts that it made way for, however soon it asks, and does not wait for one
// that came later: else it would never get on where reports come all the time.
func TestTurnsOfSyncs(t *testing.T) {
	s := storetest.Open(t)
	in(t, s, func(tx *store.Tx) error {
		z, p := placed(t, tx)
		rev, _, err := tx.AddRevision(z, bigZone(3), store.Accepted{Author: "admin", Source: "import"})
		require.NoError(t, err)
		add := func(scope store.SyncScope) uint64 {
			row := store.Sync{PlacementID: p.ID, RevisionID: rev.ID, Scope: scope}
			require.NoError(t, tx.AddSync(&row, nil))
			return row.ID
		}
		begin := func(id uint64) (inTheWay uint64) {
			row, err := tx.SyncByID(id)
			require.NoError(t, err)
			inTheWay, err = tx.BeginSync(row)
			require.NoError(t, err)
			return inTheWay
		}
		waiting := func() uint64 {
			id, err := tx.HostsWaiting(p.ID)
			require.NoError(t, err)
			return id
		}
		bulk := add(store.ScopeZone)
		assert.Zero(t, waiting(), "a sync of a zone is none of hosts")
		first := add(store.ScopeHosts)
		assert.Zero(t, begin(bulk), "what only waits is in nobody's way")
		assert.Equal(t, bulk, begin(first))
		require.Equal(t, first, waiting())
		require.NoError(t, tx.MakeWay(store.Sync{ID: bulk}, first))
		assert.Equal(t, first, begin(bulk), "it made way for this one")
		assert.Zero(t, begin(first))
		second := add(store.ScopeHosts)
		assert.Equal(t, first, begin(bulk), "it runs")
		require.NoError(t, tx.EndSync(store.Sync{ID: first}, store.SyncDone, "", nil))
		assert.Equal(t, second, waiting())
		assert.Zero(t, begin(bulk), "it did not make way for the second")
		return nil
	})
}

// A sync that has ended stays as it is, even where an instance wakes up late and wants to go on with it.
func TestAnEndedSyncStays(t *testing.T) {
	s := storetest.Open(t)
	in(t, s, func(tx *store.Tx) error {
		z, p := placed(t, tx)
		rev, _, err := tx.AddRevision(z, bigZone(3), store.Accepted{Author: "admin", Source: "import"})
		require.NoError(t, err)
		row := store.Sync{PlacementID: p.ID, RevisionID: rev.ID}
		require.NoError(t, tx.AddSync(&row, nil))
		late, err := tx.SyncByID(row.ID) // read before it ended
		require.NoError(t, err)
		require.NoError(t, tx.EndSync(row, store.SyncDone, "all of it", nil))
		_, err = tx.BeginSync(late)
		assert.ErrorIs(t, err, store.ErrLeaseLost)
		require.NoError(t, tx.RetrySync(row.ID, "trouble", s.Now()))
		require.NoError(t, tx.MakeWay(late, 7))
		require.NoError(t, tx.EndSync(row, store.SyncFailed, "late", nil))
		now, err := tx.SyncByID(row.ID)
		require.NoError(t, err)
		assert.Equal(t, store.SyncDone, now.State)
		assert.Equal(t, "all of it", now.Message)
		other, err := tx.UnfinishedSync(p.ID)
		require.NoError(t, err)
		assert.Zero(t, other.ID, "nothing waits for it")
		return nil
	})
}
