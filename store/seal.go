package store

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
)

// Seal encrypts credentials before they are kept, with a key that is not in the database (AES-256-GCM).
type Seal struct{ aead cipher.AEAD }

// OpenSeal reads the key file, and makes one where there is none.
func OpenSeal(path string) (*Seal, error) {
	key, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		key = make([]byte, 32)
		if _, err := rand.Read(key); err != nil {
			return nil, err
		}
		err = os.WriteFile(path, key, 0o600)
	}
	if err != nil {
		return nil, fmt.Errorf("the key file for credentials: %w", err)
	}
	if len(key) != 32 {
		return nil, fmt.Errorf("the key file %s has %d octets; it must have 32. Put the right one back: without it the stored credentials cannot be read", path, len(key))
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Seal{aead}, err
}

// Close encrypts secret for the account of this name only.
func (s *Seal) Close(account, secret string) ([]byte, error) {
	nonce := make([]byte, s.aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return s.aead.Seal(nonce, nonce, []byte(secret), []byte(account)), nil
}

// Open decrypts what Close made for the same account.
func (s *Seal) Open(account string, sealed []byte) (string, error) {
	size := s.aead.NonceSize()
	if len(sealed) < size {
		return "", errors.New("the stored credential is damaged")
	}
	secret, err := s.aead.Open(nil, sealed[:size], sealed[size:], []byte(account))
	if err != nil {
		return "", fmt.Errorf("the stored credential of account %s cannot be read: is the key file another one than when it was stored?", account)
	}
	return string(secret), nil
}
