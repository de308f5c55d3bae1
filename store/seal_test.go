package store

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A key is renewed while somebody else uses it: what was sealed before, between and after can be read by both.
func TestRenewSeal(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	running, err := OpenSeal(path)
	require.NoError(t, err)
	before, err := running.Close("heron-main", "first")
	require.NoError(t, err)
	first, err := os.ReadFile(path)
	require.NoError(t, err)

	renewer, err := OpenSeal(path)
	require.NoError(t, err)
	require.NoError(t, renewer.Renew())
	require.NoError(t, renewer.Renew(), "one that was broken off is gone on with")
	both, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Len(t, both, 64)
	assert.Equal(t, first, both[32:], "the old key is still there")
	between, err := running.Close("heron-main", "second")
	require.NoError(t, err)
	after, err := renewer.Close("heron-main", "third")
	require.NoError(t, err)
	for _, s := range []*Seal{running, renewer} {
		for sealed, want := range map[string]string{string(before): "first", string(between): "second", string(after): "third"} {
			got, err := s.Open("heron-main", []byte(sealed))
			require.NoError(t, err)
			assert.Equal(t, want, got)
		}
	}
	require.NoError(t, renewer.Forget())
	last, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, both[:32], last)
	stranger, err := OpenSeal(path)
	require.NoError(t, err)
	_, err = stranger.Open("heron-main", before)
	assert.ErrorContains(t, err, "cannot be read", "what was not sealed anew is lost with its key")
	got, err := stranger.Open("heron-main", between)
	require.NoError(t, err)
	assert.Equal(t, "second", got)
	_, err = stranger.Open("curlew-ops", between)
	assert.Error(t, err, "a credential is its account's and nobody else's")
	require.NoError(t, os.WriteFile(path, []byte("short"), 0o600))
	_, err = OpenSeal(path)
	assert.ErrorContains(t, err, "5 octets")
}
