package store

import (
	"encoding/json"
	"time"

	"beacon/core/delegation"
)

// JobTell is the work of bringing word of a domain over one channel.
const JobTell = "tell"

// Telling is what a channel was told of a domain.
type Telling struct {
	ID       uint64
	DomainID uint64
	Channel  string
	Told     delegation.Verdict // empty where nothing was told yet
	ToldAt   *time.Time         // real time
	Tries    int                // in vain, since then
	Problem  string             // why the last one was
	Asked    string             // what was asked of a user; empty for nothing

	DeadlinesText string `gorm:"column:deadlines"`
}

// Deadlines returns those that were told.
func (t Telling) Deadlines() (list []delegation.Deadline) {
	_ = json.Unmarshal([]byte(t.DeadlinesText), &list) // written by Told
	return list
}

// TableName is the table that tellings are kept in.
func (Telling) TableName() string { return "tellings" }

// TellLater makes sure that a channel is told how a domain stands, due at a real time. Where nothing was ever told, settled is what
// nobody need be told.
func (t *Tx) TellLater(domainID uint64, channel string, due time.Time) error {
	err := t.db.Exec("INSERT IGNORE INTO tellings (domain_id, channel, told, tries, problem) VALUES (?, ?, '', 0, '')", domainID, channel).Error
	if err != nil {
		return err
	}
	var id uint64
	if err := t.db.Raw("SELECT id FROM tellings WHERE domain_id = ? AND channel = ?", domainID, channel).Scan(&id).Error; err != nil {
		return err
	}
	return t.Enqueue(JobTell, id, due)
}

// TellingByID finds a telling.
func (t *Tx) TellingByID(id uint64) (out Telling, err error) {
	err = t.db.Where("id = ?", id).Take(&out).Error
	return out, found(err, "telling %d", id)
}

// Told notes that a channel was told a verdict, what is asked of a user, and which deadlines it knows of.
func (t *Tx) Told(id uint64, verdict delegation.Verdict, asked string, known []delegation.Deadline) error {
	return t.db.Exec("UPDATE tellings SET told = ?, asked = ?, deadlines = ?, told_at = ?, tries = 0, problem = '' WHERE id = ?", verdict, cut(asked, 300), jsonText(known), t.now(), id).Error
}

// NotTold notes a try in vain, or with no tries that it was given up.
func (t *Tx) NotTold(id uint64, tries int, problem string) error {
	return t.db.Exec("UPDATE tellings SET tries = ?, problem = ? WHERE id = ?", tries, cut(problem, 600), id).Error
}

// Tellings returns what the channels were told, newest first.
func (t *Tx) Tellings(limit int) (list []Telling, err error) {
	err = t.db.Order("told_at DESC, id DESC").Limit(limit).Find(&list).Error
	return list, err
}
