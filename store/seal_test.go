package store

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var heron = Bound{Role: "provider", Account: "heron-main", Kind: "heron", Address: "https://api.heron.example", Hosts: "{}"}

// A credential opens for nothing but what it was sealed for; and one that a former version sealed only where that is asked for.
func TestSealsAreBound(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	s, err := OpenSeal(path, 0)
	require.NoError(t, err)
	sealed, err := s.Close(heron, "s3cret")
	require.NoError(t, err)
	for name, change := range map[string]func(*Bound){"role": func(b *Bound) { b.Role = "registrar" }, "account": func(b *Bound) { b.Account = "heron-two" }, "kind": func(b *Bound) { b.Kind = "curlew" },
		"address": func(b *Bound) { b.Address = "https://elsewhere.example" }, "hosts": func(b *Bound) { b.Hosts = `{"login":"https://elsewhere.example"}` },
		"parts that run together": func(b *Bound) { b.Account, b.Kind = b.Account+" "+b.Kind, "" }} {
		other := heron
		change(&other)
		_, err := s.Open(other, sealed)
		assert.ErrorContains(t, err, "cannot be read", name)
	}
	_, former, err := s.OpenFormer(heron.Account, sealed)
	require.NoError(t, err)
	assert.False(t, former)
	aead := s.current()[0]
	old := aead.Seal(make([]byte, aead.NonceSize()), make([]byte, aead.NonceSize()), []byte("s3cret"), []byte(heron.Account))
	_, err = s.Open(heron, old)
	assert.Error(t, err)
	secret, former, err := s.OpenFormer(heron.Account, old)
	require.NoError(t, err)
	assert.True(t, former)
	assert.Equal(t, "s3cret", secret)
	assert.False(t, s.FormerRenewed())
	require.NoError(t, s.MarkRenewed())
	assert.True(t, s.FormerRenewed())

	for mode, fine := range map[os.FileMode]bool{0o600: true, 0o400: true, 0o640: true, 0o644: false, 0o666: false, 0o660: false, 0o604: false} {
		require.NoError(t, os.Chmod(path, mode))
		_, err := OpenSeal(path, 0)
		assert.Equal(t, fine, err == nil, "%04o: %v", mode, err)
	}
}

// A key is renewed while somebody else uses it: what was sealed before, between and after can be read by both.
func TestRenewSeal(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	running, err := OpenSeal(path, 0)
	require.NoError(t, err)
	before, err := running.Close(heron, "first")
	require.NoError(t, err)
	first, err := os.ReadFile(path)
	require.NoError(t, err)

	renewer, err := OpenSeal(path, 0)
	require.NoError(t, err)
	require.NoError(t, renewer.Renew())
	require.NoError(t, renewer.Renew(), "one that was broken off is gone on with")
	both, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Len(t, both, 64)
	assert.Equal(t, first, both[32:], "the old key is still there")
	between, err := running.Close(heron, "second")
	require.NoError(t, err)
	after, err := renewer.Close(heron, "third")
	require.NoError(t, err)
	for _, s := range []*Seal{running, renewer} {
		for sealed, want := range map[string]string{string(before): "first", string(between): "second", string(after): "third"} {
			got, err := s.Open(heron, []byte(sealed))
			require.NoError(t, err)
			assert.Equal(t, want, got)
		}
	}
	require.NoError(t, renewer.Forget())
	last, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, both[:32], last)
	stranger, err := OpenSeal(path, 0)
	require.NoError(t, err)
	_, err = stranger.Open(heron, before)
	assert.ErrorContains(t, err, "cannot be read", "what was not sealed anew is lost with its key")
	got, err := stranger.Open(heron, between)
	require.NoError(t, err)
	assert.Equal(t, "second", got)
	_, err = stranger.Open(Bound{Role: "provider", Account: "curlew-ops", Kind: "heron", Address: heron.Address}, between)
	assert.Error(t, err, "a credential is its account's and nobody else's")
	require.NoError(t, os.WriteFile(path, []byte("short"), 0o600))
	_, err = OpenSeal(path, 0)
	assert.ErrorContains(t, err, "5 octets")
}

// A key file that is missing where credentials are sealed is not made anew in silence.
func TestMissingKey(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	_, err := OpenSeal(path, 3)
	assert.ErrorContains(t, err, "3 credentials")
	assert.ErrorContains(t, err, "beacon key create")
	assert.NoFileExists(t, path)
	require.NoError(t, CreateKey(path))
	assert.Error(t, CreateKey(path), "one that is there stays")
	_, err = OpenSeal(path, 3)
	assert.NoError(t, err)
}
