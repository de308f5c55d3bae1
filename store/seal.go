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

// OpenSeal reads the key file, and makes one where there is none. Where credentials are sealed already, it makes none: they would be lost with the next
// one that is stored, and nobody would know why.
func OpenSeal(path string, sealed int) (*Seal, error) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		if sealed > 0 {
			return nil, fmt.Errorf("the key file %s is missing, and %d credentials in the database are sealed with it. Copy it from the machine on which the service ran, or from where it was kept. "+
				"If it is lost: beacon key create, and then give each account its credential again", path, sealed)
		}
		if err := CreateKey(path); err != nil {
			return nil, err
		}
	}
	s := &Seal{path: path}
	return s, s.read()
}

// CreateKey makes a key file. It is an error where there is one.
func CreateKey(path string) error {
	key := make([]byte, keySize)
	_, _ = rand.Read(key) // it never fails (crypto/rand)
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("there is a key file %s already; nothing was changed", path)
	}
	if err != nil {
		return fmt.Errorf("the key file for credentials: %w", err)
	}
	_, err = file.Write(key)
	return errors.Join(err, file.Close())
}

// read takes over what the key file holds.
func (s *Seal) read() error {
	about, err := os.Stat(s.path)
	if err != nil {
		return fmt.Errorf("the key file for credentials: %w", err)
	}
	if mode := about.Mode().Perm(); mode&0o027 != 0 {
		return fmt.Errorf("the key file %s may be read or written by other users (mode %04o). Nobody but the service should: chmod 600 %s", s.path, mode, s.path)
	}
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

// Bound is what a credential is sealed for. With another one of these it cannot be opened, so that it goes nowhere else: not where the address of its
// account was changed in the database, nor where it was copied to another account.
type Bound struct {
	Role, Account, Kind, Address string
	Hosts                        string // further addresses, as they are kept
}

// text is what the seal is bound to (the additional data of RFC 5116). Its beginning tells it from the account's name alone, which bound former seals.
func (b Bound) text() []byte {
	return fmt.Appendf(nil, "\x00beacon 2\x00%q %q %q %q %q", b.Role, b.Account, b.Kind, b.Address, b.Hosts)
}

// Close encrypts secret for just what it is bound to.
func (s *Seal) Close(to Bound, secret string) ([]byte, error) {
	if err := s.read(); err != nil { // it may have been renewed
		return nil, err
	}
	aead := s.current()[0]
	nonce := make([]byte, aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return aead.Seal(nonce, nonce, []byte(secret), to.text()), nil
}

// Open decrypts what Close made for the same. Where no key fits, the key file is read again: another instance may have renewed it.
func (s *Seal) Open(to Bound, sealed []byte) (string, error) {
	secret, ok, err := s.open(to.text(), sealed)
	if err == nil && !ok {
		err = fmt.Errorf("the stored credential of account %s cannot be read: was its address changed in the database, or is the key file another one than when it was stored?", to.Account)
	}
	return secret, err
}

// OpenFormer decrypts what a version before 0.1.0 sealed, which was bound to the account's name alone. It is for the one time that seals are renewed.
func (s *Seal) OpenFormer(account string, sealed []byte) (secret string, ok bool, err error) {
	return s.open([]byte(account), sealed)
}

func (s *Seal) open(bound, sealed []byte) (secret string, ok bool, err error) {
	for again := range 2 {
		for _, aead := range s.current() {
			size := aead.NonceSize()
			if len(sealed) < size {
				return "", false, errors.New("the stored credential is damaged")
			}
			if secret, err := aead.Open(nil, sealed[:size], sealed[size:], bound); err == nil {
				return string(secret), true, nil
			}
		}
		if again == 0 {
			if err := s.read(); err != nil {
				return "", false, err
			}
		}
	}
	return "", false, nil
}

// FormerRenewed reports whether former seals were renewed once with this key file. From then on none is opened: the mark is beside the key, out of reach
// of the database.
func (s *Seal) FormerRenewed() bool {
	_, err := os.Stat(s.path + ".bound")
	return err == nil
}

// MarkRenewed notes that former seals were renewed.
func (s *Seal) MarkRenewed() error { return os.WriteFile(s.path+".bound", []byte("2\n"), 0o600) }

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
