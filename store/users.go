package store

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/argon2"

	"beacon/core/access"
)

type user struct {
	ID           uint64
	Name         string
	PasswordHash []byte
	CreatedAt    time.Time
}

func (user) TableName() string { return "users" }

// Parameters of argon2id, as RFC 9106 section 4 and common advice give them for small machines.
const (
	hashPasses  = 2
	hashMemory  = 19 * 1024 // KiB
	hashThreads = 1
	saltSize    = 16
)

func hashPassword(password string, salt []byte) []byte {
	return append(salt[:saltSize:saltSize], argon2.IDKey([]byte(password), salt[:saltSize], hashPasses, hashMemory, hashThreads, 32)...)
}

// CountUsers returns how many people there are.
func (t *Tx) CountUsers() (int64, error) {
	var n int64
	err := t.db.Model(&user{}).Count(&n).Error
	return n, err
}

// PasswordHash is what is kept of a password.
type PasswordHash []byte

// HashPassword returns what is kept of a password. It takes a while, and belongs outside of transactions.
func HashPassword(password string) PasswordHash {
	salt := make([]byte, saltSize)
	_, _ = rand.Read(salt) // it never fails (crypto/rand)
	return hashPassword(password, salt)
}

// AddUser makes a user who signs in with a password.
func (t *Tx) AddUser(name string, hash PasswordHash) error {
	row := user{Name: name, PasswordHash: hash, CreatedAt: t.now()}
	return found(t.db.Create(&row).Error, "user %s", name)
}

// SetPassword gives a user another password.
func (t *Tx) SetPassword(name string, hash PasswordHash) error {
	res := t.db.Exec("UPDATE users SET password_hash = ? WHERE name = ?", []byte(hash), name)
	if res.Error == nil && res.RowsAffected == 0 {
		return fmt.Errorf("user %s: %w", name, ErrNotFound)
	}
	return res.Error
}

// RemoveUser forgets a user with its tokens, unless it is the last one.
func (t *Tx) RemoveUser(name string) (last bool, err error) {
	var names []string
	if err := t.db.Raw("SELECT name FROM users ORDER BY id FOR UPDATE").Scan(&names).Error; err != nil {
		return false, err
	}
	switch {
	case !slices.Contains(names, name):
		return false, fmt.Errorf("user %s: %w", name, ErrNotFound)
	case len(names) == 1:
		return true, nil
	}
	return false, t.db.Exec("DELETE FROM users WHERE name = ?", name).Error
}

// Session is a token of a user, without its text.
type Session struct {
	ID        uint64
	Label     string
	CreatedAt time.Time
	ExpiresAt time.Time
	Current   bool // it is the one that was given
}

// Sessions returns the valid tokens of a user, newest first.
func (t *Tx) Sessions(userID uint64, current string) (list []Session, err error) {
	err = t.db.Raw("SELECT id, label, created_at, expires_at, hash = ? AS current FROM tokens WHERE user_id = ? AND expires_at > ? ORDER BY id DESC",
		octets(hashToken(current)), userID, t.now()).Scan(&list).Error
	return list, err
}

// EndSession makes a token of a user invalid.
func (t *Tx) EndSession(userID, id uint64) error {
	res := t.db.Exec("DELETE FROM tokens WHERE id = ? AND user_id = ?", id, userID)
	if res.Error == nil && res.RowsAffected == 0 {
		return fmt.Errorf("session %d: %w", id, ErrNotFound)
	}
	return res.Error
}

// EndSessions makes all tokens of a user invalid but the one that is given, which may be empty, and returns how many.
func (t *Tx) EndSessions(name, but string) (ended int, err error) {
	res := t.db.Exec("DELETE t FROM tokens t JOIN users u ON u.id = t.user_id WHERE u.name = ? AND t.hash <> ?", name, octets(hashToken(but)))
	return int(res.RowsAffected), res.Error
}

// People returns the names of all people.
func (t *Tx) Users() (names []string, err error) {
	err = t.db.Model(&user{}).Order("name").Pluck("name", &names).Error
	return names, err
}

// PasswordOf is what a password is compared with.
type PasswordOf struct {
	ID   uint64 // of the user; 0 where there is none
	hash []byte
}

// PasswordOf returns what the password of a user is compared with. Where there is no such user, that is something that no password is.
func (t *Tx) PasswordOf(name string) (PasswordOf, error) {
	var rows []user
	if err := t.db.Where("name = ?", name).Limit(1).Find(&rows).Error; err != nil {
		return PasswordOf{}, err
	}
	if len(rows) == 0 {
		return PasswordOf{hash: make([]byte, saltSize+32)}, nil
	}
	return PasswordOf{rows[0].ID, rows[0].PasswordHash}, nil
}

// Is reports whether a password is right. It takes as long where there is no such user.
func (p PasswordOf) Is(password string) bool {
	return subtle.ConstantTimeCompare(hashPassword(password, p.hash), p.hash) == 1 && p.ID != 0
}

type token struct {
	ID        uint64
	UserID    uint64
	Label     string
	Hash      []byte
	Rights    string
	CreatedAt time.Time
	ExpiresAt time.Time
}

// AddToken makes a token for a user and gives its text, which is kept nowhere.
func (t *Tx) AddToken(userID uint64, label string, rights []access.Right, lifetime time.Duration) (text string, expires time.Time, err error) {
	if text, err = newToken("bt_"); err != nil {
		return "", time.Time{}, err
	}
	words := make([]string, len(rights))
	for i, r := range rights {
		words[i] = string(r)
	}
	now := t.now()
	row := token{UserID: userID, Label: cut(label, 100), Hash: hashToken(text), Rights: strings.Join(words, ","), CreatedAt: now, ExpiresAt: now.Add(lifetime)}
	return text, row.ExpiresAt, t.db.Create(&row).Error
}

// newToken returns the text of a token; its first letters say what kind it is.
func newToken(begins string) (string, error) {
	raw := make([]byte, 32)
	if _, err := rand.Read(raw); err != nil {
		return "", err
	}
	return begins + base64.RawURLEncoding.EncodeToString(raw), nil
}

func hashToken(text string) []byte {
	sum := sha256.Sum256([]byte(text))
	return sum[:]
}

// CallerOf finds who holds a token, if it is valid.
func (t *Tx) CallerOf(text string) (access.Caller, error) {
	var row struct {
		UserID uint64
		Name   string
		Rights string
	}
	err := t.db.Raw("SELECT t.user_id, u.name, t.rights FROM tokens t JOIN users u ON u.id = t.user_id WHERE t.hash = ? AND t.expires_at > ? LIMIT 1",
		octets(hashToken(text)), t.now()).Scan(&row).Error
	if err != nil {
		return access.Caller{}, err
	}
	if row.UserID == 0 {
		return access.Caller{}, fmt.Errorf("token: %w", ErrNotFound)
	}
	rights, err := access.Parse(strings.Split(row.Rights, ","))
	return access.Caller{UserID: row.UserID, Name: row.Name, Rights: rights}, err
}

// ValidTokens returns which of some tokens are valid.
func (t *Tx) ValidTokens(texts []string) (map[string]bool, error) {
	valid := map[string]bool{}
	for some := range slices.Chunk(texts, 1000) {
		hashes, of := make([]octets, len(some)), map[string]string{}
		for i, text := range some {
			hash := hashToken(text)
			hashes[i], of[string(hash)] = octets(hash), text
		}
		var found [][]byte
		if err := t.db.Raw("SELECT hash FROM tokens WHERE hash IN ? AND expires_at > ?", hashes, t.now()).Scan(&found).Error; err != nil {
			return nil, err
		}
		for _, hash := range found {
			valid[of[string(hash)]] = true
		}
	}
	return valid, nil
}

// DropToken makes a token invalid.
func (t *Tx) DropToken(text string) error {
	return t.db.Exec("DELETE FROM tokens WHERE hash = ?", octets(hashToken(text))).Error
}
