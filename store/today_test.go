package store_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/reach"
	"beacon/store"
	"beacon/store/storetest"
)

// What the first page is made of: the last sync of a placement decides, deadlines are replaced, and samples count what was done between them.
func TestToday(t *testing.T) {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	s, err := store.Open(ctx, storetest.Settings(t), reach.Loopback(), func() time.Time { return now })
	require.NoError(t, err)
	defer s.Close()
	ended := func(tx *store.Tx, placement, revision uint64, state store.SyncState, after time.Duration) {
		row := store.Sync{PlacementID: placement, RevisionID: revision}
		require.NoError(t, tx.AddSync(&row, nil))
		now = now.Add(after)
		require.NoError(t, tx.EndSync(row, state, "because", nil))
	}
	in(t, s, func(tx *store.Tx) error {
		z, p := placed(t, tx)
		rev, _, err := tx.AddRevision(z, bigZone(3), store.Accepted{Author: "admin", Source: "import"})
		require.NoError(t, err)
		d, err := tx.EnsureDomain(z.ID)
		require.NoError(t, err)
		by := now.Add(2 * time.Hour)
		report := delegation.Report{Verdict: delegation.Settling, CheckedAt: now, SettlesBy: &by}
		require.NoError(t, tx.AddCheck(d.ID, report, delegation.History{}, evidence.Sweep{}, 1500*time.Millisecond, false))
		require.NoError(t, tx.SetDeadlines(d.ID, []delegation.Deadline{{Code: "registration-ends-soon", Subject: "a.example.", By: by}, {Code: "certificate-ends-soon", Subject: "www", By: now}}))
		require.NoError(t, tx.SetDeadlines(d.ID, []delegation.Deadline{{Code: "certificate-ends-soon", Subject: "www", By: by}}))
		ending, err := tx.Deadlines(10)
		require.NoError(t, err)
		require.Len(t, ending, 1, "the old ones are gone")
		assert.True(t, ending[0].EndsAt.Equal(by))
		settling, err := tx.Settling(10)
		require.NoError(t, err)
		require.Len(t, settling, 1)

		ended(tx, p.ID, rev.ID, store.SyncBlocked, time.Second)
		list, err := tx.BlockedSyncs(10)
		require.NoError(t, err)
		require.Len(t, list, 1)
		assert.Equal(t, "because", list[0].Message)
		require.NoError(t, tx.AddSample(now.Add(-time.Hour)))
		ended(tx, p.ID, rev.ID, store.SyncDone, 2*time.Second)
		ended(tx, p.ID, rev.ID, store.SyncDone, 4*time.Second)
		ended(tx, p.ID, rev.ID, store.SyncDone, 60*time.Second)
		list, err = tx.BlockedSyncs(10)
		require.NoError(t, err)
		assert.Empty(t, list, "a later sync was done")
		require.NoError(t, tx.AddSample(now.Add(-time.Hour)))

		samples, err := tx.Samples(now.Add(-time.Hour))
		require.NoError(t, err)
		require.Len(t, samples, 2)
		states, err := samples[0].ByState()
		require.NoError(t, err)
		assert.Equal(t, map[delegation.Verdict]int{delegation.Settling: 1}, states)
		assert.Equal(t, []int{1, 0}, []int{samples[0].Revisions, samples[0].Syncs})
		assert.Nil(t, samples[0].SyncMS, "none was done")
		assert.Equal(t, []int{0, 3}, []int{samples[1].Revisions, samples[1].Syncs})
		assert.EqualValues(t, 4000, *samples[1].SyncMS, "the median")
		assert.EqualValues(t, 1500, *samples[1].CheckMS)
		now = now.Add(2 * time.Hour)
		require.NoError(t, tx.AddSample(now.Add(-time.Hour)))
		samples, err = tx.Samples(now.Add(-100 * time.Hour))
		require.NoError(t, err)
		assert.Len(t, samples, 1, "old samples are gone")
		return nil
	})
}

// Paging through the domains returns each of them once, in the order that was asked for; those without a time come last.
func TestDomainsSorted(t *testing.T) {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	s, err := store.Open(ctx, storetest.Settings(t), reach.Loopback(), func() time.Time { return now })
	require.NoError(t, err)
	defer s.Close()
	random := rand.New(rand.NewPCG(7, 7))
	in(t, s, func(tx *store.Tx) error {
		for i := range 40 {
			z, err := tx.AddZone(dnsname.MustParse(fmt.Sprintf("d%02d.example", i)))
			require.NoError(t, err)
			d, err := tx.EnsureDomain(z.ID)
			require.NoError(t, err)
			report := delegation.Report{Verdict: delegation.Settling, CheckedAt: now.Add(time.Duration(random.IntN(9)) * time.Second)}
			if random.IntN(3) > 0 {
				by := now.Add(time.Duration(random.IntN(9)) * time.Minute)
				report.SettlesBy = &by
			}
			require.NoError(t, tx.AddCheck(d.ID, report, delegation.History{}, evidence.Sweep{}, 0, false))
		}
		for _, sort := range []store.DomainOrder{"", store.BySettling, store.ByCheck} {
			var all []store.DomainRow
			after, f := dnsname.Name{}, store.DomainFilter{Sort: sort}
			for {
				page, err := tx.DomainsAfter(after, 7, f)
				require.NoError(t, err)
				all = append(all, page...)
				if len(page) < 7 {
					break
				}
				last := page[len(page)-1]
				after, f.Behind = dnsname.FromKey(last.NameKey), map[store.DomainOrder]*time.Time{store.BySettling: last.SettlesBy, store.ByCheck: last.CheckedAt}[sort]
			}
			require.Len(t, all, 40, sort)
			seen := map[string]bool{}
			for i, d := range all {
				require.False(t, seen[d.NameKey], "%s: %s twice", sort, d.NameKey)
				seen[d.NameKey] = true
				if i == 0 {
					continue
				}
				at := func(r store.DomainRow) string { // as text, so that none is last
					when := map[store.DomainOrder]*time.Time{store.BySettling: r.SettlesBy, store.ByCheck: r.CheckedAt}[sort]
					if when == nil {
						return "none " + r.NameKey
					}
					return when.UTC().Format(time.RFC3339Nano) + " " + r.NameKey
				}
				require.Less(t, at(all[i-1]), at(d), sort)
			}
		}
		_, err := tx.DomainsAfter(dnsname.Name{}, 7, store.DomainFilter{Sort: "1; DROP TABLE domains"})
		require.ErrorContains(t, err, "cannot be sorted")
		return nil
	})
}
