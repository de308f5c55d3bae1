package store

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"fmt"
	"time"

	"golang.org/x/crypto/argon2"

	"beacon/core/access"
)

type user struct {
	ID           uint64
	Name         string
	PasswordHash []byte
	Grants       string // JSON
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
func (t *Tx) AddUser(name string, hash PasswordHash, grants []access.Grant) error {
	text, err := json.Marshal(grants)
	if err != nil {
		return err
	}
	row := user{Name: name, PasswordHash: hash, Grants: string(text), CreatedAt: t.now()}
	return found(t.db.Create(&row).Error, "user %s", name)
}

// SetGrants changes what a user may do.
func (t *Tx) SetGrants(name string, grants []access.Grant) error {
	text, err := json.Marshal(grants)
	if err != nil {
		return err
	}
	return t.db.Exec("UPDATE users SET grants = ? WHERE name = ?", string(text), name).Error
}

// User is a user in a list.
type User struct {
	ID         uint64
	Name       string
	Grants     []access.Grant
	CreatedAt  time.Time
	SignedInAt *time.Time // when the newest session began that is still kept
	Tokens     int        // machine tokens that it made
}

// Users returns all users, by name.
func (t *Tx) Users() (list []User, err error) {
	var rows []struct {
		ID           uint64
		Name, Grants string
		CreatedAt    time.Time
		SignedInAt   *time.Time
		Tokens       int
	}
	err = t.db.Raw(`SELECT u.id, u.name, u.grants, u.created_at, MAX(CASE WHEN t.name IS NULL THEN t.created_at END) AS signed_in_at, COUNT(t.name) AS tokens
		FROM users u LEFT JOIN tokens t ON t.user_id = u.id GROUP BY u.id ORDER BY u.name`).Scan(&rows).Error
	for _, r := range rows {
		u := User{ID: r.ID, Name: r.Name, CreatedAt: r.CreatedAt, SignedInAt: r.SignedInAt, Tokens: r.Tokens}
		if u.Grants, err = grantsOf(r.Grants); err != nil {
			return nil, fmt.Errorf("the grants of user %s: %w", r.Name, err)
		}
		list = append(list, u)
	}
	return list, err
}

// LockUsers keeps others from adding, removing and changing users until the transaction ends.
func (t *Tx) LockUsers() error {
	var ids []uint64
	return t.db.Raw("SELECT id FROM users FOR UPDATE").Scan(&ids).Error
}

// SetPassword gives a user another password.
func (t *Tx) SetPassword(name string, hash PasswordHash) error {
	res := t.db.Exec("UPDATE users SET password_hash = ? WHERE name = ?", []byte(hash), name)
	if res.Error == nil && res.RowsAffected == 0 {
		return fmt.Errorf("user %s: %w", name, ErrNotFound)
	}
	return res.Error
}

// RemoveUser forgets a user with its sessions and tokens.
func (t *Tx) RemoveUser(name string) error {
	return t.db.Exec("DELETE FROM users WHERE name = ?", name).Error
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
