package store_test

import (
	"crypto/sha256"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/clock"
	"beacon/core/access"
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

// A host that was there before locations came has one of its own, with an uplink that has its address and its token.
func TestHostsGetLocations(t *testing.T) {
	s, err := store.Connect(ctx, storetest.Settings(t), reach.Loopback())
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.MigrateTo(ctx, 128))
	require.NoError(t, s.Statement(ctx, "INSERT INTO zones (id, name_key, description, created_at) VALUES (3, ?, '', NOW())", []byte(name.Key())))
	cam, err := name.Child("cam")
	require.NoError(t, err)
	require.NoError(t, s.Statement(ctx, "INSERT INTO hosts (id, zone_id, name_key, follows_v4, follows_v6, ttl, v4, created_by, created_at) VALUES (7, 3, ?, TRUE, TRUE, 60, INET6_ATON('198.51.100.7'), 'petra', NOW())", []byte(cam.Key())))
	text := access.TokenText(access.HostToken, [32]byte{1})
	sum := sha256.Sum256([]byte(text))
	require.NoError(t, s.Statement(ctx, "INSERT INTO tokens (host_id, begins, hash, created_at) VALUES (7, 'abh_', ?, NOW())", sum[:]))
	require.NoError(t, s.MigrateTo(ctx, len(store.Steps())))
	require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error {
		row, err := tx.TokenOf(text)
		require.NoError(t, err)
		assert.Equal(t, access.HostToken, row.Kind())
		assert.Equal(t, cam, row.Host)
		h, err := tx.Host(cam)
		require.NoError(t, err)
		uplinks, err := tx.Uplinks(h.LocationID)
		require.NoError(t, err)
		require.Len(t, uplinks, 1)
		assert.Equal(t, row.UplinkID, uplinks[0].ID)
		line, err := uplinks[0].Line()
		require.NoError(t, err)
		assert.Equal(t, "198.51.100.7", line.V4.String())
		stands, err := h.Stands()
		require.NoError(t, err)
		assert.Equal(t, "198.51.100.7", stands.V4.Addr.String())
		assert.False(t, stands.V6.Addr.IsValid())
		return nil
	}))
}
