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
func TestBriefRun(t *testing.T) {
	s := storetest.Open(t)
	do := func(f func(tx *store.Tx) error) { t.Helper(); require.NoError(t, s.Tx(ctx, f)) }
	var ids []uint64
	do(func(tx *store.Tx) error {
		_, ok, err := tx.BriefRun()
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
	var run store.BriefRun
	var list []store.BriefDomain
	do(func(tx *store.Tx) (err error) { run, err = tx.BeginBriefChecks(time.Now()); return err })
	do(func(tx *store.Tx) (err error) { list, err = tx.ToCheckBriefly(run.Reached, 3); return err })
	assert.Equal(t, 5, run.Domains)
	require.Len(t, list, 3)
	assert.Equal(t, dnsname.MustParse("pier-0.example."), list[0].Name())
	assert.False(t, list[0].Known())

	fine := func(id uint64) store.BriefCheck {
		return store.BriefCheck{DomainID: id, Verdict: delegation.Settled, Seen: [16]byte{1, 2, 3}}
	}
	looks := []store.BriefCheck{fine(ids[0]), {DomainID: ids[1], Verdict: delegation.NeedsAction, Gravest: "lame", Seen: [16]byte{9}}, fine(ids[2])}
	run.Reached, run.Looked, run.Verdicts = ids[2], 3, map[delegation.Verdict]int{delegation.Settled: 2, delegation.NeedsAction: 1}
	do(func(tx *store.Tx) error { return tx.KeepBriefChecks(run, looks) })
	do(func(tx *store.Tx) error {
		kept, ok, err := tx.BriefRun()
		assert.True(t, ok)
		assert.Nil(t, kept.Ended)
		assert.Equal(t, run.Verdicts, kept.Verdicts)
		assert.Equal(t, 3, kept.Looked)
		rest, err2 := tx.ToCheckBriefly(kept.Reached, 10)
		require.NoError(t, err2)
		assert.Len(t, rest, 2)
		again, err2 := tx.ToCheckBriefly(0, 10)
		require.NoError(t, err2)
		assert.Equal(t, looks[:2], []store.BriefCheck{again[0].Before, again[1].Before})
		assert.True(t, again[0].Known())
		assert.False(t, again[3].Known())
		return err
	})
	now := time.Now()
	run.Reached, run.Looked, run.Ended = ids[4], 5, &now
	do(func(tx *store.Tx) error {
		return tx.KeepBriefChecks(run, []store.BriefCheck{fine(ids[3]), fine(ids[4])})
	})
	do(func(tx *store.Tx) error {
		open, err := tx.UnsettledBriefly()
		if assert.Len(t, open, 1) {
			assert.Equal(t, "lame", open[0].Gravest)
		}
		return err
	})

	// What is kept of a domain that is not there tells nothing and is in nobody's way.
	none := store.BriefCheck{DomainID: ids[4] + 1, Verdict: delegation.NeedsAction, Gravest: "silent"}
	late := store.BriefCheck{DomainID: ids[1], Verdict: delegation.Undelegated, Gravest: "not-registered"}
	do(func(tx *store.Tx) error { return tx.KeepBriefChecks(run, []store.BriefCheck{none, late}) })
	do(func(tx *store.Tx) error {
		open, err := tx.UnsettledBriefly()
		assert.Equal(t, []store.FleetRow{{Name: dnsname.MustParse("pier-1.example.").Key(), Verdict: delegation.Undelegated, Gravest: "not-registered"}}, open)
		return err
	})

	do(func(tx *store.Tx) error { _, err := tx.BeginBriefChecks(time.Now()); return err })
	assert.ErrorIs(t, s.Tx(ctx, func(tx *store.Tx) error { return tx.KeepBriefChecks(run, looks) }), store.ErrNotFound)
	do(func(tx *store.Tx) error {
		kept, _, err := tx.BriefRun()
		assert.Zero(t, kept.Looked, "the older run leaves the newer alone")
		return err
	})
}
