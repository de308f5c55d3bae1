package store

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"sync"
)

// keySize is the length of a key, in octets (AES-256).
const keySize = 32

// Seal encrypts credentials before they are kept, with a key that is not in the database (AES-256-GCM). While a key is
// being renewed its file holds two, the newer first. It is safe for concurrent use.
type Seal struct {
	path string
	mu   sync.Mutex
	keys []cipher.AEAD // the newest first
}

// OpenSeal reads the key file, and makes one where there is none.
func OpenSeal(path string) (*Seal, error) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		key := make([]byte, keySize)
		if _, err := rand.Read(key); err != nil {
			return nil, err
		}
		if err := os.WriteFile(path, key, 0o600); err != nil {
			return nil, fmt.Errorf("the key file for credentials: %w", err)
		}
	}
	s := &Seal{path: path}
	return s, s.read()
}

// read takes over what the key file holds.
func (s *Seal) read() error {
	text, err := os.ReadFile(s.path)
	if err != nil {
		return fmt.Errorf("the key file for credentials: %w", err)
	}
	if len(text) != keySize && len(text) != 2*keySize {
		return fmt.Errorf("the key file %s has %d octets; it must have %d. Put the right one back: without it the stored credentials cannot be read", s.path, len(text), keySize)
	}
	var keys []cipher.AEAD
	for ; len(text) > 0; text = text[keySize:] {
		block, err := aes.NewCipher(text[:keySize])
		if err != nil {
			return err
		}
		aead, err := cipher.NewGCM(block)
		if err != nil {
			return err
		}
		keys = append(keys, aead)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.keys = keys
	return nil
}

func (s *Seal) current() []cipher.AEAD {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.keys
}

// Close encrypts secret for the account of this name only.
func (s *Seal) Close(account, secret string) ([]byte, error) {
	if err := s.read(); err != nil { // it may have been renewed
		return nil, err
	}
	aead := s.current()[0]
	nonce := make([]byte, aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return aead.Seal(nonce, nonce, []byte(secret), []byte(account)), nil
}

// Open decrypts what Close made for the same account. Where no key fits, the key file is read again: another instance
// may have renewed it.
func (s *Seal) Open(account string, sealed []byte) (string, error) {
	for again := range 2 {
		for _, aead := range s.current() {
			size := aead.NonceSize()
			if len(sealed) < size {
				return "", errors.New("the stored credential is damaged")
			}
			if secret, err := aead.Open(nil, sealed[:size], sealed[size:], []byte(account)); err == nil {
				return string(secret), nil
			}
		}
		if again == 0 {
			if err := s.read(); err != nil {
				return "", err
			}
		}
	}
	return "", fmt.Errorf("the stored credential of account %s cannot be read: is the key file another one than when it was stored?", account)
}

// Renew puts a new key before the one in the file, unless a renewal was broken off there: then that one is gone on with.
// Instances that run read the file again by themselves. Forget ends the renewal.
func (s *Seal) Renew() error {
	text, err := os.ReadFile(s.path)
	if err != nil {
		return err
	}
	if len(text) == keySize {
		fresh := make([]byte, keySize, 2*keySize)
		if _, err := rand.Read(fresh); err != nil {
			return err
		}
		if err := s.replace(append(fresh, text...)); err != nil {
			return err
		}
	}
	return s.read()
}

// Forget removes the older key from the file.
func (s *Seal) Forget() error {
	text, err := os.ReadFile(s.path)
	if err != nil {
		return err
	}
	if err := s.replace(text[:keySize]); err != nil {
		return err
	}
	return s.read()
}

// replace writes the key file so that it is never half there.
func (s *Seal) replace(text []byte) error {
	next := s.path + ".new"
	if err := os.WriteFile(next, text, 0o600); err != nil {
		return err
	}
	return os.Rename(next, s.path)
}
