package accounts

import (
	"context"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/clock"
	"beacon/reach"
	"beacon/store"
	"beacon/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// Three instances share the pace of an account: together they make no more requests in any sliding second than it allows, and not much less.
func TestInstancesShareThePace(t *testing.T) {
	t.Parallel()
	const perSecond, requests = 10, 32
	settings := storetest.Settings(t)
	account := store.Account{Name: "heron-main", Role: "provider", Kind: "heron", Sealed: []byte("sealed")}
	var mu sync.Mutex
	var sent []time.Duration
	var group sync.WaitGroup
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	for i := range 3 {
		db, err := store.Open(ctx, settings, reach.Loopback(), nil)
		require.NoError(t, err)
		defer db.Close()
		if i == 0 {
			require.NoError(t, db.Tx(ctx, func(tx *store.Tx) error { return tx.AddAccount(&account) }))
		}
		s := &Accounts{store: db, paces: map[uint64]*pace{}}
		for range 2 {
			group.Go(func() {
				for {
					if err := s.paceOf(account, perSecond).Wait(ctx); !assert.NoError(t, err) {
						return
					}
					mu.Lock()
					sent = append(sent, clock.Boot())
					n := len(sent)
					mu.Unlock()
					if n >= requests {
						return
					}
				}
			})
		}
	}
	group.Wait()
	slices.Sort(sent)
	for i := perSecond; i < len(sent); i++ {
		assert.Greater(t, sent[i]-sent[i-perSecond], time.Second, "more than %d requests in a second", perSecond)
	}
	assert.Less(t, sent[requests-1]-sent[0], 8*time.Second)
}

// A moment that was missed is not made up for.
func TestMissedMomentsAreLost(t *testing.T) {
	t.Parallel()
	db := storetest.Open(t)
	ctx := context.Background()
	account := store.Account{Name: "heron-main", Role: "provider", Kind: "heron", Sealed: []byte("sealed")}
	require.NoError(t, db.Tx(ctx, func(tx *store.Tx) error { return tx.AddAccount(&account) }))
	s := &Accounts{store: db, paces: map[uint64]*pace{}}
	p := s.paceOf(account, 100)
	require.NoError(t, p.Wait(ctx))
	time.Sleep(150 * time.Millisecond) // twelve moments
	var sent []time.Duration
	for range 4 {
		require.NoError(t, p.Wait(ctx))
		sent = append(sent, clock.Boot())
	}
	assert.Greater(t, sent[3]-sent[0], 10*time.Millisecond)
	p.Slow(300 * time.Millisecond)
	before := clock.Boot()
	require.NoError(t, p.Wait(ctx))
	assert.Greater(t, clock.Boot()-before, 250*time.Millisecond)
}

// Where a provider does not say how many requests it allows, what slows one instance down slows the others down too.
func TestInstancesAreSlowedDownTogether(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	settings := storetest.Settings(t)
	account := store.Account{Name: "heron-main", Role: "provider", Kind: "heron", Sealed: []byte("sealed")}
	var paces []*pace
	for i := range 2 {
		db, err := store.Open(ctx, settings, reach.Loopback(), nil)
		require.NoError(t, err)
		defer db.Close()
		if i == 0 {
			require.NoError(t, db.Tx(ctx, func(tx *store.Tx) error { return tx.AddAccount(&account) }))
		}
		paces = append(paces, (&Accounts{store: db, paces: map[uint64]*pace{}}).paceOf(account, 0))
	}
	begun := clock.Boot()
	paces[0].Slow(2 * time.Second)
	pause, _, err := paces[0].turn(ctx)
	require.NoError(t, err)
	assert.Greater(t, pause, time.Second)
	require.NoError(t, paces[1].Wait(ctx))
	assert.Greater(t, clock.Boot()-begun, 1900*time.Millisecond)
	pause, _, err = paces[1].turn(ctx)
	require.NoError(t, err)
	assert.Zero(t, pause, "it is over")
}
