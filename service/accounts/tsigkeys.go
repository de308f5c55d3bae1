package accounts

import (
	"crypto/rand"
	"encoding/base64"

	"beacon/store"
)

// AddTSIGKey makes the secret of a key, as long as the output of its algorithm, keeps it sealed, and returns it in Base64: it is shown once.
func (s *Accounts) AddTSIGKey(tx *store.Tx, k *store.TSIGKey, octets int) (secret string, err error) {
	text := make([]byte, octets)
	_, _ = rand.Read(text) // it never fails (crypto/rand)
	secret = base64.StdEncoding.EncodeToString(text)
	if k.Sealed, err = s.seal.Close(k.Bound(), secret); err != nil {
		return "", err
	}
	return secret, tx.AddTSIGKey(k)
}

// TSIGSecret returns the secret of a key, in Base64.
func (s *Accounts) TSIGSecret(k store.TSIGKey) (string, error) {
	return s.seal.Open(k.Bound(), k.Sealed)
}

// TSIGKey finds a key with whose it is.
func TSIGKey(tx *store.Tx, name string) (store.TSIGKeyRow, error) { return tx.TSIGKeyRow(name) }

// TSIGKeysAfter returns at most limit keys behind a name, in the order of their names.
func TSIGKeysAfter(tx *store.Tx, after string, limit int) ([]store.TSIGKeyRow, error) {
	return tx.TSIGKeysAfter(after, limit)
}

// RemoveTSIGKey forgets a key.
func RemoveTSIGKey(tx *store.Tx, k store.TSIGKey) error { return tx.RemoveTSIGKey(k.ID) }

// TSIGKeyUsed notes that a key was used from an address.
func TSIGKeyUsed(tx *store.Tx, id uint64, from string) error { return tx.TSIGKeyUsed(id, from) }
