package store

import (
	"time"

	"gorm.io/gorm/clause"
)

// RequestKey is a request that named itself, so that sending it again does nothing again.
type RequestKey struct {
	Caller string
	Name   string
	Digest []byte // of method, path and body
	Status int    // of the answer; 0 while there is none
	Body   string // of the answer
	MadeAt time.Time
}

// TableName is the table that request keys are kept in.
func (RequestKey) TableName() string { return "request_keys" }

// ClaimKey keeps that a request is being answered. Where there is one of that caller and name already, it returns that instead.
func (t *Tx) ClaimKey(k RequestKey) (before *RequestKey, err error) {
	k.MadeAt = t.now()
	res := t.db.Clauses(clause.Insert{Modifier: "IGNORE"}).Create(&k)
	if res.Error != nil || res.RowsAffected == 1 {
		return nil, res.Error
	}
	before = &RequestKey{}
	return before, found(t.db.Where("caller = ? AND name = ?", k.Caller, k.Name).Take(before).Error, "request key %s", k.Name)
}

// KeepAnswer keeps the answer to a request that was claimed.
func (t *Tx) KeepAnswer(k RequestKey) error {
	return t.db.Model(&RequestKey{}).Where("caller = ? AND name = ? AND digest = ?", k.Caller, k.Name, k.Digest).
		Updates(map[string]any{"status": k.Status, "body": k.Body}).Error
}

// DropKey forgets a request, which may be sent again.
func (t *Tx) DropKey(k RequestKey) error {
	return t.db.Where("caller = ? AND name = ? AND digest = ?", k.Caller, k.Name, k.Digest).Delete(&RequestKey{}).Error
}
