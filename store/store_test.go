package store_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/clock"
	"beacon/core/access"
	"beacon/core/change"
	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/record"
	"beacon/looking"
	"beacon/reach"
	"beacon/store"
	"beacon/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var (
	ctx  = context.Background()
	name = dnsname.MustParse("saltmarsh-ferries.example")
)

// in runs do in a transaction that must succeed.
func in(t testing.TB, s *store.Store, do func(tx *store.Tx) error) {
	t.Helper()
	require.NoError(t, s.Tx(ctx, do))
}

// placed makes a zone with a place at a provider.
func placed(t *testing.T, tx *store.Tx) (store.Zone, store.Placement) {
	t.Helper()
	z, err := tx.AddZone(name)
	require.NoError(t, err)
	account := store.Account{Name: "heron-main", Role: "provider", Kind: "heron", Sealed: []byte("sealed")}
	require.NoError(t, tx.AddAccount(&account))
	p, err := tx.Place(z.ID, account.ID)
	require.NoError(t, err)
	return z, p
}

func TestMigrationsRunOnce(t *testing.T) {
	settings := storetest.Settings(t)
	for range 2 {
		s, err := store.Open(ctx, settings, reach.Loopback(), clock.Wall{}.Now)
		require.NoError(t, err)
		s.Close()
	}
	settings.Password = "wrong"
	_, err := store.Open(ctx, settings, reach.Loopback(), clock.Wall{}.Now)
	assert.ErrorContains(t, err, "does not answer")
}

func TestUsersAndTokens(t *testing.T) {
	s := storetest.Open(t)
	var text string
	in(t, s, func(tx *store.Tx) error {
		require.NoError(t, tx.AddUser("admin", store.HashPassword("correct horse"), access.Full(access.Viewer)))
		of, err := tx.PasswordOf("admin")
		require.NoError(t, err)
		id := of.ID
		assert.True(t, of.Is("correct horse"))
		assert.False(t, of.Is("wrong"))
		nobody, err := tx.PasswordOf("nobody")
		require.NoError(t, err)
		assert.False(t, nobody.Is("correct horse"))
		assert.False(t, nobody.Is(""))
		text, _, err = tx.AddSession(id, "session", time.Hour)
		require.NoError(t, err)
		valid, err := tx.ValidTokens([]string{text, "abs_other"})
		require.NoError(t, err)
		assert.Equal(t, map[string]bool{text: true}, valid)
		old, _, err := tx.AddSession(id, "old", -time.Second)
		require.NoError(t, err)
		_, err = tx.TokenOf(old)
		assert.ErrorIs(t, err, store.ErrNotFound, "an expired token is none")
		return nil
	})
	in(t, s, func(tx *store.Tx) error {
		row, err := tx.TokenOf(text)
		require.NoError(t, err)
		caller := row.Caller()
		assert.Equal(t, "admin", caller.Name)
		assert.True(t, caller.Ever(access.See))
		assert.False(t, caller.Ever(access.Edit))
		require.NoError(t, tx.DropToken(text))
		_, err = tx.TokenOf(text)
		assert.ErrorIs(t, err, store.ErrNotFound)
		return nil
	})
	assert.ErrorIs(t, s.Tx(ctx, func(tx *store.Tx) error { return tx.AddUser("admin", store.HashPassword("x"), nil) }), store.ErrTaken)
}

func TestSeal(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	seal, err := store.OpenSeal(path, 0)
	require.NoError(t, err)
	sealed, err := seal.Close(store.Bound{Account: "heron-main"}, "s3cret")
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "s3cret")
	again, err := store.OpenSeal(path, 0)
	require.NoError(t, err)
	secret, err := again.Open(store.Bound{Account: "heron-main"}, sealed)
	require.NoError(t, err)
	assert.Equal(t, "s3cret", secret)
	_, err = again.Open(store.Bound{Account: "another"}, sealed)
	assert.ErrorContains(t, err, "cannot be read")
	require.NoError(t, os.WriteFile(path, []byte("short"), 0o600))
	_, err = store.OpenSeal(path, 0)
	assert.ErrorContains(t, err, "must have 32")
}

func bigZone(n int) record.Contents {
	var records []record.Record
	for i := range n {
		host, _ := name.Child(fmt.Sprintf("h%05d", i))
		records = append(records, record.Record{Name: host, TTL: 300, Type: record.A, Data: record.Data(fmt.Sprintf("192.0.2.%d", i%250))})
	}
	return record.NewContents(records)
}

func TestRevisionsShareChunks(t *testing.T) {
	s := storetest.Open(t)
	c := bigZone(5000)
	host, _ := name.Child("h02500")
	changed := c.With(record.NewSet(host, record.A, 300, "192.0.2.251"), record.NewSet(host, record.TXT, 60, `"with \" quotes and ; blanks"`))
	in(t, s, func(tx *store.Tx) error {
		z, err := tx.AddZone(name)
		require.NoError(t, err)
		first, made, err := tx.AddRevision(z, c, store.Accepted{Author: "admin", Source: "import"})
		require.NoError(t, err)
		assert.True(t, made)
		z, err = tx.Zone(name)
		require.NoError(t, err)
		_, made, err = tx.AddRevision(z, c, store.Accepted{Author: "admin", Source: "again"})
		require.NoError(t, err)
		assert.False(t, made, "the same contents are no new revision")
		second, made, err := tx.AddRevision(z, changed, store.Accepted{Author: "admin", Source: "edit"})
		require.NoError(t, err)
		assert.True(t, made)
		assert.EqualValues(t, 2, second.Number)
		for id, want := range map[uint64]record.Contents{first.ID: c, second.ID: changed} {
			got, err := tx.Contents(id)
			require.NoError(t, err)
			assert.True(t, got.Equal(want))
		}
		chunks, err := tx.CountChunks(second.ID, first.ID)
		require.NoError(t, err)
		assert.LessOrEqual(t, chunks, 2, "one changed record moves the chunk that it is in")
		return nil
	})
	assert.ErrorIs(t, s.Tx(ctx, func(tx *store.Tx) error { _, err := tx.AddZone(name); return err }), store.ErrTaken)
}

func TestPlacedSetsComeBack(t *testing.T) {
	s := storetest.Open(t)
	in(t, s, func(tx *store.Tx) error {
		z, p := placed(t, tx)
		again, err := tx.Place(z.ID, p.AccountID)
		require.NoError(t, err)
		assert.Equal(t, p.ID, again.ID)
		sent := record.NewSet(name, record.TXT, 60, `"a"`)
		read := record.NewSet(name, record.TXT, 300, `"a"`)
		plain := record.NewSet(name, record.A, 60, "192.0.2.1")
		unread := record.NewSet(name, record.AAAA, 60, "2001:db8::1")
		want := []store.PlacedSet{{Sent: plain, Read: plain}, {Sent: sent, Read: read}, {Sent: unread}}
		require.NoError(t, tx.SetPlaced(p.ID, want))
		sets, err := tx.Placed(p.ID)
		require.NoError(t, err)
		assert.Equal(t, want, sets)
		require.NoError(t, tx.ForgetPlaced(p.ID, []record.Key{unread.Key()}))
		require.NoError(t, tx.SetPlaced(p.ID, []store.PlacedSet{{Sent: sent, Read: sent}}))
		require.NoError(t, tx.ForgetPlaced(p.ID, []record.Key{plain.Key()}))
		sets, err = tx.Placed(p.ID)
		require.NoError(t, err)
		assert.Equal(t, []store.PlacedSet{{Sent: sent, Read: sent}}, sets)
		require.NoError(t, tx.SetRemote(p.ID, "h-1", []dnsname.Name{name}))
		p, err = tx.PlacementByID(p.ID)
		require.NoError(t, err)
		assert.Equal(t, []dnsname.Name{name}, p.Names())

		rev, _, err := tx.AddRevision(z, bigZone(3), store.Accepted{Author: "admin", Source: "import"})
		require.NoError(t, err)
		sync := store.Sync{PlacementID: p.ID, RevisionID: rev.ID}
		require.NoError(t, tx.AddSync(&sync, []string{"names-would-stop"}))
		text, err := json.Marshal(change.List{{After: plain}})
		require.NoError(t, err)
		deadline := time.Now()
		act := store.Act{Kind: "records", SyncID: &sync.ID, State: store.ActSent, Intended: string(text), Deadline: &deadline}
		require.NoError(t, tx.AddAct(&act))
		open, err := tx.OpenActsOfPlacement(p.ID)
		require.NoError(t, err)
		require.Len(t, open, 1)
		steps, err := open[0].Steps()
		require.NoError(t, err)
		assert.Equal(t, plain, steps[0].After)
		require.NoError(t, tx.CloseAct(act.ID, store.ActDone, ""))
		require.NoError(t, tx.EndSync(sync, store.SyncDone, "", nil))
		unfinished, err := tx.UnfinishedSync(p.ID)
		require.NoError(t, err)
		assert.Zero(t, unfinished.ID)
		return nil
	})
}

func TestChecksAreKept(t *testing.T) {
	s := storetest.Open(t)
	in(t, s, func(tx *store.Tx) error {
		z, err := tx.AddZone(name)
		require.NoError(t, err)
		d, err := tx.EnsureDomain(z.ID)
		require.NoError(t, err)
		at := time.Date(2030, 1, 2, 3, 4, 5, 678901000, time.UTC)
		report := delegation.Report{Domain: name, Verdict: delegation.Settling, CheckedAt: at, SettlesBy: &at}
		history := delegation.History{Since: at, Current: delegation.State{Set: []dnsname.Name{name}, P: delegation.TTLs{{TTL: 7, At: at}}}}
		require.NoError(t, tx.AddCheck(d.ID, report, history, evidence.Sweep{}, 0, false))
		d, err = tx.LockHistory(d.ID)
		require.NoError(t, err)
		got, err := d.PastSweeps()
		require.NoError(t, err)
		assert.Equal(t, history, got)
		assert.Equal(t, at, *d.SettlesBy)
		last, ok, err := tx.LastReport(d.ID)
		require.NoError(t, err)
		assert.True(t, ok)
		assert.Equal(t, report.Verdict, last.Verdict)
		return nil
	})
}

// Checks do not pile up, for one domain as little as for another, in whatever rhythm they come.
func TestOldChecksGo(t *testing.T) {
	s := storetest.Open(t)
	in(t, s, func(tx *store.Tx) error {
		var ids []uint64
		for _, label := range []string{"a.example", "b.example"} {
			z, err := tx.AddZone(dnsname.MustParse(label))
			require.NoError(t, err)
			d, err := tx.EnsureDomain(z.ID)
			require.NoError(t, err)
			ids = append(ids, d.ID)
		}
		at := time.Date(2030, 3, 1, 12, 0, 0, 0, time.UTC)
		add := func(id uint64, verdict delegation.Verdict, same bool) {
			at = at.Add(time.Minute)
			require.NoError(t, tx.AddCheck(id, delegation.Report{Verdict: verdict, CheckedAt: at}, delegation.History{}, evidence.Sweep{}, 0, same))
		}
		for range store.KeepChecks + 20 {
			for _, id := range ids {
				add(id, delegation.NeedsAction, false)
			}
		}
		began := at
		for range 30 {
			add(ids[1], delegation.NeedsAction, true)
		}
		for _, id := range ids {
			n, err := tx.CountChecks(id)
			require.NoError(t, err)
			assert.EqualValues(t, store.KeepChecks, n)
		}
		r, since, ok, err := tx.LastReportSince(ids[1])
		require.NoError(t, err)
		assert.True(t, ok)
		assert.Equal(t, at, r.CheckedAt.UTC(), "the newest report is kept")
		assert.Equal(t, began, since.UTC(), "and since when it has been so")
		return nil
	})
}

// Eight workers, every job taken exactly once, none left.
func TestJobsAreTakenOnce(t *testing.T) {
	s := storetest.Open(t)
	const jobs = 200
	in(t, s, func(tx *store.Tx) error {
		for i := range jobs {
			if err := tx.Enqueue("sync", uint64(i+1), time.Now().Add(-time.Second)); err != nil {
				return err
			}
		}
		return nil
	})
	var mu sync.Mutex
	taken := map[uint64]int{}
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			for {
				var job store.Job
				var ok bool
				if !assert.NoError(t, s.Tx(ctx, func(tx *store.Tx) (err error) { job, ok, err = tx.Claim(time.Minute, nil, "sync"); return err })) || !ok {
					return
				}
				mu.Lock()
				taken[job.Subject]++
				mu.Unlock()
				assert.NoError(t, s.Tx(ctx, func(tx *store.Tx) error { return tx.Finish(job, "") }))
			}
		})
	}
	group.Wait()
	assert.Len(t, taken, jobs)
	for subject, times := range taken {
		assert.Equal(t, 1, times, "job %d", subject)
	}
}

// A claim passes over rows that another transaction looks at, due ones too; it is told of, so that "none" is not taken for the truth.
func TestMissedClaims(t *testing.T) {
	s := storetest.Open(t)
	look := func() (ok, missed bool) {
		in(t, s, func(tx *store.Tx) (err error) {
			if _, ok, err = tx.Claim(time.Minute, nil, "sync"); err == nil && !ok {
				missed, err = tx.Missed(nil, "sync")
			}
			return err
		})
		return ok, missed
	}
	in(t, s, func(tx *store.Tx) error {
		return errors.Join(tx.Enqueue("sync", 1, time.Now().Add(-time.Second)), tx.Enqueue("sync", 2, time.Now().Add(time.Hour)))
	})
	in(t, s, func(tx *store.Tx) error {
		if err := tx.LockJobs(); err != nil {
			return err
		}
		ok, missed := look()
		assert.False(t, ok, "the row is another's just now")
		assert.True(t, missed)
		return nil
	})
	ok, _ := look()
	assert.True(t, ok)
	ok, missed := look()
	assert.False(t, ok)
	assert.False(t, missed, "leased, or not due yet")
}

func TestLeases(t *testing.T) {
	s := storetest.Open(t)
	claim := func(lease time.Duration) (job store.Job, ok bool) {
		in(t, s, func(tx *store.Tx) (err error) { job, ok, err = tx.Claim(lease, nil, "sync", "check"); return err })
		return job, ok
	}
	in(t, s, func(tx *store.Tx) error { return tx.Enqueue("check", 1, time.Now().Add(-time.Second)) })
	first, ok := claim(50 * time.Millisecond)
	require.True(t, ok)
	_, ok = claim(time.Minute)
	assert.False(t, ok, "leased work is nobody else's")
	time.Sleep(60 * time.Millisecond)
	second, ok := claim(time.Minute)
	require.True(t, ok, "a lease that ran out is free")
	assert.Equal(t, 2, second.Attempts)
	for _, do := range []func(tx *store.Tx) error{
		func(tx *store.Tx) error { return tx.Finish(first, "") },
		func(tx *store.Tx) error { return tx.Extend(first, time.Minute) },
		func(tx *store.Tx) error { return tx.Again(first, time.Now(), "") },
		func(tx *store.Tx) error { return tx.Hold(first) },
	} {
		assert.ErrorIs(t, s.Tx(ctx, do), store.ErrLeaseLost, "who lost the lease decides nothing")
	}
	in(t, s, func(tx *store.Tx) error { return tx.Hold(second) })
	in(t, s, func(tx *store.Tx) error { return tx.Again(second, time.Now().Add(-time.Second), "later") })
	third, ok := claim(time.Minute)
	require.True(t, ok)
	in(t, s, func(tx *store.Tx) error { return tx.Finish(third, "") })
	in(t, s, func(tx *store.Tx) error { return tx.Enqueue("check", 1, time.Now().Add(-time.Second)) })
	again, ok := claim(time.Minute)
	require.True(t, ok, "finished work can be asked for anew")
	assert.Equal(t, 1, again.Attempts)

	// Asked for while it is held: done once more, and not at the same time.
	for _, putDown := range []func(tx *store.Tx) error{
		func(tx *store.Tx) error { return tx.Finish(again, "") },
		func(tx *store.Tx) error { return tx.Again(again, time.Now().Add(time.Hour), "failed") },
		func(tx *store.Tx) error { return tx.Later(again, time.Now().Add(time.Hour)) },
	} {
		in(t, s, func(tx *store.Tx) error { return tx.Enqueue("check", 1, time.Now().Add(-time.Second)) })
		in(t, s, func(tx *store.Tx) error { return tx.Enqueue("check", 1, time.Now().Add(time.Hour)) })
		_, ok = claim(time.Minute)
		assert.False(t, ok, "it is still held")
		in(t, s, putDown)
		again, ok = claim(time.Minute)
		require.True(t, ok, "due at the earlier of both times")
	}
	in(t, s, func(tx *store.Tx) error { return tx.Finish(again, "") })
	_, ok = claim(time.Minute)
	assert.False(t, ok, "and once is enough")
}

func TestLogbook(t *testing.T) {
	s := storetest.Open(t)
	in(t, s, func(tx *store.Tx) error {
		for i := range 3 {
			require.NoError(t, tx.Log("admin", "sync.started", "a.example.", fmt.Sprint(i)))
		}
		page, err := tx.Entries("a.example.", true, true, 0, 2)
		require.NoError(t, err)
		require.Len(t, page, 2)
		rest, err := tx.Entries("a.example.", true, true, page[1].ID, 2)
		require.NoError(t, err)
		assert.Len(t, rest, 1)
		none, err := tx.Entries("b.example.", true, true, 0, 2)
		assert.Empty(t, none)
		return err
	})
}

func BenchmarkClaim(b *testing.B) {
	s := storetest.Open(b)
	in(b, s, func(tx *store.Tx) error {
		for i := range b.N {
			if err := tx.Enqueue("sync", uint64(i+1), time.Now().Add(-time.Second)); err != nil {
				return err
			}
		}
		return nil
	})
	b.ResetTimer()
	b.SetParallelism(4)
	b.RunParallel(func(pb *testing.PB) {
		for pb.Next() {
			if err := s.Tx(ctx, func(tx *store.Tx) error {
				job, ok, err := tx.Claim(time.Minute, nil, "sync")
				if err != nil || !ok {
					return err
				}
				return tx.Finish(job, "")
			}); err != nil {
				b.Error(err)
			}
		}
	})
}

// Under a context that only looks the database refuses to be written, and reads on.
func TestLookingWritesNothing(t *testing.T) {
	s := storetest.Open(t)
	in(t, s, func(tx *store.Tx) error { _, err := tx.AddZone(name); return err })
	other := dnsname.MustParse("north-pier.example")
	for what, do := range map[string]func(context.Context, func(*store.Tx) error) error{"Look": s.Look, "Tx": func(ctx context.Context, do func(*store.Tx) error) error { return s.Tx(looking.On(ctx), do) }} {
		assert.Error(t, do(context.Background(), func(tx *store.Tx) error { _, err := tx.AddZone(other); return err }), what)
		assert.NoError(t, do(context.Background(), func(tx *store.Tx) error { _, err := tx.LockZone(name); return err }), what)
	}
}

// What a sync of many sets costs the database: that they are placed, and that they were read back as they were sent.
func BenchmarkSetPlaced(b *testing.B) {
	s := storetest.Open(b)
	var place store.Placement
	in(b, s, func(tx *store.Tx) error {
		z, err := tx.AddZone(name)
		if err != nil {
			return err
		}
		account := store.Account{Name: "heron-main", Role: "provider", Kind: "heron", Sealed: []byte("sealed")}
		if err := tx.AddAccount(&account); err != nil {
			return err
		}
		place, err = tx.Place(z.ID, account.ID)
		return err
	})
	round := 0
	for b.Loop() {
		round++
		sets := make([]store.PlacedSet, 1000)
		for i := range sets {
			sets[i].Sent = record.NewSet(dnsname.MustParse(fmt.Sprintf("gauge-%d-%d.%s", round, i, name)), record.A, 300, "192.0.2.1")
		}
		in(b, s, func(tx *store.Tx) error { return tx.SetPlaced(place.ID, sets) })
	}
	b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N)/1000, "us/set")
}
