package store_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/clock"
	"beacon/reach"
	"beacon/store"
	"beacon/store/storetest"
)

// A program that is killed between the statement of a migration and the note that it was made goes on when it starts again, whichever
// migration it was.
func TestMigrationsGoOnAfterAKill(t *testing.T) {
	clean, err := store.Open(ctx, storetest.Settings(t), reach.Loopback(), clock.Wall{}.Now)
	require.NoError(t, err)
	defer clean.Close()
	want, err := clean.Schema(ctx)
	require.NoError(t, err)
	require.NotEmpty(t, want)

	killed, err := store.Connect(ctx, storetest.Settings(t), reach.Loopback())
	require.NoError(t, err)
	defer killed.Close()
	require.NoError(t, killed.MigrateTo(ctx, 0))
	for i, name := range store.Steps() {
		number := i + 1
		require.NoError(t, killed.Execute(ctx, number), name)
		require.NoError(t, killed.MigrateTo(ctx, number), name)
	}
	got, err := killed.Schema(ctx)
	require.NoError(t, err)
	assert.Equal(t, want, got)
	require.NoError(t, killed.MigrateTo(ctx, len(store.Steps())), "nothing is left to do")
}
