package store_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/reach"
	"beacon/store"
	"beacon/store/storetest"
)

// What is old goes, a little at a time; the newest stays, and what has not ended.
func TestPrune(t *testing.T) {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	s, err := store.Open(ctx, storetest.Settings(t), reach.Loopback(), func() time.Time { return now })
	require.NoError(t, err)
	defer s.Close()
	ids := map[string]uint64{}
	in(t, s, func(tx *store.Tx) error {
		z, p := placed(t, tx)
		rev, _, err := tx.AddRevision(z, bigZone(3), store.Accepted{Author: "admin", Source: "import"})
		require.NoError(t, err)
		add := func(name string, state store.SyncState) {
			row := store.Sync{PlacementID: p.ID, RevisionID: rev.ID}
			require.NoError(t, tx.AddSync(&row, nil))
			act := store.Act{Kind: "records", SyncID: &row.ID, State: store.ActDone}
			require.NoError(t, tx.AddAct(&act))
			require.NoError(t, tx.CloseAct(act.ID, store.ActDone, ""))
			if state != store.SyncPending {
				require.NoError(t, tx.EndSync(row, state, "", nil))
			}
			ids[name] = row.ID
		}
		for i := range 5 {
			require.NoError(t, tx.Log("service", "request", "heron-main", fmt.Sprint(i)))
			require.NoError(t, tx.Log("service", "zone.created", "a.example", fmt.Sprint(i)))
		}
		add("old", store.SyncDone)
		add("pending", store.SyncPending)
		add("last", store.SyncFailed)
		old, running := store.Act{Kind: "retire", State: store.ActPending}, store.Act{Kind: "retire", State: store.ActPending}
		require.NoError(t, tx.AddAct(&old))
		require.NoError(t, tx.AddAct(&running))
		request := store.Act{Kind: "zone-removed", ParentID: &old.ID, State: store.ActSent}
		require.NoError(t, tx.AddAct(&request))
		require.NoError(t, tx.CloseAct(request.ID, store.ActDone, ""))
		require.NoError(t, tx.EndAct(old.ID, store.ActDone, "", nil, nil))
		ids["act"], ids["request"], ids["running"] = old.ID, request.ID, running.ID
		return nil
	})
	prune := func(kind store.Kept, before time.Time) (n int64) {
		in(t, s, func(tx *store.Tx) (err error) { n, err = tx.Prune(kind, before, 3); return err })
		return n
	}
	kinds := []store.Kept{store.KeptLogbook, store.KeptRequests, store.KeptSyncs, store.KeptActs, store.KeptJobs, store.KeptTokens, store.KeptEvidence}
	for _, kind := range kinds {
		assert.Zero(t, prune(kind, now.Add(-time.Hour)), "%s: nothing is that old", kind)
	}
	now = now.Add(48 * time.Hour)
	before := now.Add(-time.Hour)
	assert.EqualValues(t, 3, prune(store.KeptRequests, before), "at most so many at once")
	assert.EqualValues(t, 2, prune(store.KeptRequests, before))
	assert.EqualValues(t, 1, prune(store.KeptSyncs, before))
	assert.Zero(t, prune(store.KeptSyncs, before))
	for n := int64(1); n > 0; {
		n = prune(store.KeptActs, before)
	}
	left := 0
	for n := int64(1); n > 0; {
		n = prune(store.KeptLogbook, before)
	}
	in(t, s, func(tx *store.Tx) error {
		_, err := tx.SyncByID(ids["old"])
		assert.True(t, store.IsMissing(err))
		for _, name := range []string{"pending", "last"} {
			_, err := tx.SyncByID(ids[name])
			assert.NoError(t, err, name)
		}
		for _, name := range []string{"act", "request"} {
			_, err := tx.ActByID(ids[name])
			assert.True(t, store.IsMissing(err), name)
		}
		_, err = tx.ActByID(ids["running"])
		assert.NoError(t, err)
		entries, err := tx.Entries("", true, true, 0, 100)
		left = len(entries)
		return err
	})
	assert.Equal(t, 1, left, "the newest line stays: its number goes on")
}

// Handovers that ended long ago go with their marks; the last of a domain stays, and so does an open one.
func TestPruneHandovers(t *testing.T) {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	s, err := store.Open(ctx, storetest.Settings(t), reach.Loopback(), func() time.Time { return now })
	require.NoError(t, err)
	defer s.Close()
	var zone uint64
	in(t, s, func(tx *store.Tx) error {
		z, _ := placed(t, tx)
		zone = z.ID
		for _, state := range []string{store.HandoverDone, store.HandoverAbandoned, store.HandoverDone} {
			h := store.Handover{ZoneID: z.ID, State: state, BegunBy: "admin", BegunAt: now}
			require.NoError(t, tx.AddHandover(&h))
			require.NoError(t, tx.AddMark(&store.HandoverMark{HandoverID: h.ID, Kind: "ended", At: now}))
		}
		return nil
	})
	prune := func(before time.Time) (n int64) {
		in(t, s, func(tx *store.Tx) (err error) { n, err = tx.Prune(store.KeptMoves, before, 10); return err })
		return n
	}
	assert.Zero(t, prune(now), "nothing is that old")
	now = now.Add(48 * time.Hour)
	assert.EqualValues(t, 2, prune(now.Add(-time.Hour)))
	assert.Zero(t, prune(now.Add(-time.Hour)))
	in(t, s, func(tx *store.Tx) error {
		h, err := tx.LastHandover(zone)
		require.NoError(t, err)
		marks, err := tx.Marks(h.ID)
		require.NoError(t, err)
		assert.Len(t, marks, 1)
		list, err := tx.EndedHandovers(0, 10)
		assert.Len(t, list, 1)
		return err
	})
}
