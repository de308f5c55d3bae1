package store_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/reach"
	"beacon/store"
	"beacon/store/storetest"
)

// What is restored is what was dumped, to the octet, and held.
func TestDumpAndRestore(t *testing.T) {
	s := storetest.Open(t)
	var seen store.Placement
	in(t, s, func(tx *store.Tx) error {
		z, p := placed(t, tx)
		rev, _, err := tx.AddRevision(z, bigZone(300), store.Accepted{Author: "admin", Source: "import", Reason: "\x00'\"\\ ünï"})
		require.NoError(t, err)
		require.NoError(t, tx.Written(p.ID))
		row := store.Sync{PlacementID: p.ID, RevisionID: rev.ID}
		require.NoError(t, tx.AddSync(&row, nil))
		seen, err = tx.PlacementByID(p.ID)
		return err
	})
	var first bytes.Buffer
	rows, err := s.Dump(ctx, &first, func(int64, int64) {})
	require.NoError(t, err)

	empty, err := store.Connect(ctx, storetest.Settings(t), reach.Loopback())
	require.NoError(t, err)
	defer empty.Close()
	restored, err := store.Restore(ctx, empty, bytes.NewReader(first.Bytes()), "restored")
	require.NoError(t, err)
	assert.Equal(t, rows, restored)
	in(t, empty, func(tx *store.Tx) error {
		p, err := tx.PlacementByID(seen.ID)
		require.NoError(t, err)
		assert.Equal(t, seen, p)
		h, err := tx.TheHold()
		require.NotNil(t, h)
		assert.Equal(t, "restored", h.Reason)
		require.NoError(t, tx.ReleaseAll())
		return err
	})
	want, err := s.Schema(ctx)
	require.NoError(t, err)
	got, err := empty.Schema(ctx)
	require.NoError(t, err)
	assert.Equal(t, want, got)
	var second bytes.Buffer
	_, err = empty.Dump(ctx, &second, func(int64, int64) {})
	require.NoError(t, err)
	without := func(text string) (lines []string) { // without the line of the logbook about the hold
		for _, line := range strings.Split(text, "\n") {
			if !strings.Contains(line, "YmVhY29uIHJlc3RvcmU=") && !strings.Contains(line, "bG9vay1vbmNl") { // nor the look that it asks for
				lines = append(lines, line)
			}
		}
		return lines
	}
	assert.Equal(t, without(first.String()), without(second.String()))

	_, err = store.Restore(ctx, empty, bytes.NewReader(first.Bytes()), "again")
	assert.ErrorContains(t, err, "empty one")
	for _, broken := range []string{"", "{}", first.String()[:first.Len()/2], `{"migration":1,"tables":1}` + "\n" + `{"table":"x; drop","columns":["a"]}`} {
		other, err := store.Connect(ctx, storetest.Settings(t), reach.Loopback())
		require.NoError(t, err)
		_, err = store.Restore(ctx, other, strings.NewReader(broken), "broken")
		assert.Error(t, err)
		other.Close()
	}
}
