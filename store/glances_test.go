package store_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/store"
	"beacon/store/storetest"
)

// A run of brief looks goes on where it was left, tells what became of all of them, and gives way to a newer one.
func TestGlanceRuns(t *testing.T) {
	s := storetest.Open(t)
	do := func(f func(tx *store.Tx) error) { t.Helper(); require.NoError(t, s.Tx(ctx, f)) }
	var ids []uint64
	do(func(tx *store.Tx) error {
		_, ok, err := tx.GlanceRun()
		assert.False(t, ok)
		for i := range 5 {
			z, err := tx.AddZone(dnsname.MustParse(fmt.Sprintf("pier-%d.example.", i)))
			require.NoError(t, err)
			d, err := tx.EnsureDomain(z.ID)
			require.NoError(t, err)
			ids = append(ids, d.ID)
		}
		return err
	})
	var run store.GlanceRun
	var list []store.Glanced
	do(func(tx *store.Tx) (err error) { run, err = tx.BeginGlances(); return err })
	do(func(tx *store.Tx) (err error) { list, err = tx.ToGlanceAt(run.Reached, 3); return err })
	assert.Equal(t, 5, run.Domains)
	require.Len(t, list, 3)
	assert.Equal(t, dnsname.MustParse("pier-0.example."), list[0].Name())
	assert.False(t, list[0].Known())

	fine := func(id uint64) store.Glance {
		return store.Glance{DomainID: id, Verdict: delegation.Settled, Seen: [16]byte{1, 2, 3}}
	}
	looks := []store.Glance{fine(ids[0]), {DomainID: ids[1], Verdict: delegation.Wrong, Gravest: "lame", Seen: [16]byte{9}}, fine(ids[2])}
	run.Reached, run.Looked, run.Verdicts = ids[2], 3, map[delegation.Verdict]int{delegation.Settled: 2, delegation.Wrong: 1}
	do(func(tx *store.Tx) error { return tx.KeepGlances(run, looks) })
	do(func(tx *store.Tx) error {
		kept, ok, err := tx.GlanceRun()
		assert.True(t, ok)
		assert.Nil(t, kept.Ended)
		assert.Equal(t, run.Verdicts, kept.Verdicts)
		assert.Equal(t, 3, kept.Looked)
		rest, err2 := tx.ToGlanceAt(kept.Reached, 10)
		require.NoError(t, err2)
		assert.Len(t, rest, 2)
		again, err2 := tx.ToGlanceAt(0, 10)
		require.NoError(t, err2)
		assert.Equal(t, looks[:2], []store.Glance{again[0].Before, again[1].Before})
		assert.True(t, again[0].Known())
		assert.False(t, again[3].Known())
		return err
	})
	now := time.Now()
	run.Reached, run.Looked, run.Ended = ids[4], 5, &now
	do(func(tx *store.Tx) error { return tx.KeepGlances(run, []store.Glance{fine(ids[3]), fine(ids[4])}) })
	do(func(tx *store.Tx) error {
		open, err := tx.UnsettledAtGlance()
		if assert.Len(t, open, 1) {
			assert.Equal(t, "lame", open[0].Gravest)
		}
		return err
	})

	// What is kept of a domain that is not there tells nothing and is in nobody's way.
	none := store.Glance{DomainID: ids[4] + 1, Verdict: delegation.Wrong, Gravest: "silent"}
	late := store.Glance{DomainID: ids[1], Verdict: delegation.Undelegated, Gravest: "not-registered"}
	do(func(tx *store.Tx) error { return tx.KeepGlances(run, []store.Glance{none, late}) })
	do(func(tx *store.Tx) error {
		open, err := tx.UnsettledAtGlance()
		assert.Equal(t, []store.FleetRow{{Name: dnsname.MustParse("pier-1.example.").Key(), Verdict: delegation.Undelegated, Gravest: "not-registered"}}, open)
		return err
	})

	do(func(tx *store.Tx) error { _, err := tx.BeginGlances(); return err })
	assert.ErrorIs(t, s.Tx(ctx, func(tx *store.Tx) error { return tx.KeepGlances(run, looks) }), store.ErrNotFound)
	do(func(tx *store.Tx) error {
		kept, _, err := tx.GlanceRun()
		assert.Zero(t, kept.Looked, "the older run leaves the newer alone")
		return err
	})
}
