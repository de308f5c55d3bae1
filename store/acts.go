package store

import (
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"

	"beacon/core/change"
	"beacon/core/finding"
)

// ActState is what became of an act.
type ActState string

// A user's act is pending until it is taken up, and running, or retrying while passing trouble is waited out, until it ends: done, blocked (a gate is closed, or a guard), failed, or cancelled by a user. A
// request is sent until it is known what became of it: done, not applied, or applied in part.
const (
	ActPending    ActState = "pending"
	ActRunning    ActState = "running"
	ActRetrying   ActState = "retrying"
	ActSent       ActState = "sent"
	ActDone       ActState = "done"
	ActNotApplied ActState = "not-applied"
	ActPartial    ActState = "partial"
	ActBlocked    ActState = "blocked"
	ActFailed     ActState = "failed"
	ActCancelled  ActState = "cancelled"
)

// Ended reports whether nothing more will happen.
func (s ActState) Ended() bool {
	return s != ActPending && s != ActRunning && s != ActRetrying && s != ActSent
}

// unended are the states of what users asked for that has not ended.
var unended = []ActState{ActPending, ActRunning, ActRetrying}

// JobAct is the kind of the jobs that run what users asked for.
const JobAct = "act"

// Act is one request that changes something outside, stored before it is sent; or what a user asked for, which may take several.
type Act struct {
	ID          uint64
	Kind        string
	Subject     string  // name of the zone or domain
	ParentID    *uint64 // the act that a request is part of
	SyncID      *uint64 // the sync that a request is part of
	AccountID   uint64
	RequestedBy string
	Reason      string
	State       ActState
	Asked       string     // what a user asked for, JSON
	Seen        string     // what was seen before, JSON
	Intended    string     // what shall be, JSON
	Result      string     // what came of it, JSON
	Receipt     string     // to ask with, where a request was only accepted at first
	Deadline    *time.Time // by when a request has ended, real time
	Message     string
	Problem     string
	Findings    string // JSON
	CreatedAt   time.Time
	FinishedAt  *time.Time

	Turn         uint64     // of the job that a request was sent under
	TroubleSince *time.Time // since when passing trouble holds it up, real time
	NextTryAt    *time.Time // real time
}

// TableName is the table that acts are kept in.
func (Act) TableName() string { return "acts" }

// Steps returns the record changes that a request intends.
func (a Act) Steps() (list change.List, err error) {
	err = json.Unmarshal([]byte(a.Intended), &list)
	return list, err
}

// FindingList returns what was found.
func (a Act) FindingList() (list []finding.Finding) {
	_ = json.Unmarshal([]byte(a.Findings), &list) // written by EndAct
	return list
}

// AddAct keeps a new act.
func (t *Tx) AddAct(a *Act) error {
	a.Findings, a.CreatedAt = "[]", t.now()
	a.Subject, a.RequestedBy, a.Reason = cut(a.Subject, 600), cut(a.RequestedBy, 100), cut(a.Reason, 1000)
	return t.db.Create(a).Error
}

// ActByID finds an act.
func (t *Tx) ActByID(id uint64) (a Act, err error) {
	err = t.db.Where("id = ?", id).Take(&a).Error
	return a, found(err, "act %d", id)
}

// SetReceipt keeps what to ask with after a request was accepted.
func (t *Tx) SetReceipt(id uint64, receipt string) error {
	return t.db.Exec("UPDATE acts SET receipt = ? WHERE id = ?", cut(receipt, 255), id).Error
}

// CloseAct records what became of a request.
func (t *Tx) CloseAct(id uint64, state ActState, problem string) error {
	return t.db.Model(&Act{}).Where("id = ?", id).Updates(map[string]any{"state": state, "problem": cut(problem, 60000), "finished_at": t.now()}).Error
}

// RunAct records that what a user asked for is being done.
func (t *Tx) RunAct(id uint64) error {
	return t.db.Exec("UPDATE acts SET state = ?, next_try_at = NULL WHERE id = ? AND state IN ?", ActRunning, id, unended).Error
}

// RetryAct records that passing trouble holds up what a user asked for, and until when it waits.
func (t *Tx) RetryAct(id uint64, problem string, next time.Time) error {
	return t.db.Exec("UPDATE acts SET state = ?, problem = ?, trouble_since = COALESCE(trouble_since, ?), next_try_at = ? WHERE id = ? AND state IN ?",
		ActRetrying, cut(problem, 60000), t.now(), next, id, unended).Error
}

// NoteSeen keeps what was seen before an act changed anything; what is kept already stays.
func (t *Tx) NoteSeen(id uint64, seen any) error {
	return t.db.Exec("UPDATE acts SET seen = ? WHERE id = ? AND seen = ''", jsonText(seen), id).Error
}

// EndAct records how what a user asked for ended. It changes nothing where that has ended already.
func (t *Tx) EndAct(id uint64, state ActState, message string, findings []finding.Finding, result any) error {
	if findings == nil {
		findings = []finding.Finding{}
	}
	return t.db.Exec("UPDATE acts SET state = ?, message = ?, problem = '', findings = ?, result = ?, finished_at = ?, next_try_at = NULL WHERE id = ? AND state IN ?",
		state, cut(message, 60000), jsonText(findings), jsonText(result), t.now(), id, unended).Error
}

// ActsOfSync returns the requests of a sync in their order.
func (t *Tx) ActsOfSync(syncID uint64) (list []Act, err error) {
	err = t.db.Where("sync_id = ?", syncID).Order("id").Limit(500).Find(&list).Error
	return list, err
}

// OpenActsOfPlacement returns the requests of a placement's syncs of which it is not known what became of them.
func (t *Tx) OpenActsOfPlacement(placementID uint64) (list []Act, err error) {
	err = t.db.Raw("SELECT a.* FROM acts a JOIN syncs s ON s.id = a.sync_id WHERE s.placement_id = ? AND a.state = ? ORDER BY a.id", placementID, ActSent).Scan(&list).Error
	return list, err
}

// ActsOf returns the requests of an act in their order.
func (t *Tx) ActsOf(parentID uint64) (list []Act, err error) {
	err = t.db.Where("parent_id = ?", parentID).Order("id").Find(&list).Error
	return list, err
}

// SentBefore returns the requests about a subject of which it is not known what became of them, and that acts other than one made.
func (t *Tx) SentBefore(subject string, other uint64) (list []Act, err error) {
	err = t.db.Where("subject = ? AND state = ? AND parent_id IS NOT NULL AND parent_id <> ?", subject, ActSent, other).Find(&list).Error
	return list, err
}

// UsersActs returns what users asked for, newest first: of one subject, or of all where it is empty, from before an id; 0 begins with the newest.
func (t *Tx) UsersActs(subject string, before uint64, limit int) (list []Act, err error) {
	about, args := t.aboutZones("subject")
	q := t.db.Where("parent_id IS NULL AND sync_id IS NULL").Where(about, args...).Order("id DESC").Limit(limit)
	if subject != "" {
		q = q.Where("subject = ?", subject)
	}
	if before > 0 {
		q = q.Where("id < ?", before)
	}
	err = q.Find(&list).Error
	return list, err
}

// UnfinishedAct finds what a user asked for of a subject and that has not ended; zero id for none.
func (t *Tx) UnfinishedAct(subject string, kinds ...string) (a Act, err error) {
	err = t.db.Where("subject = ? AND parent_id IS NULL AND kind IN ? AND state IN ?", subject, kinds, unended).Order("id").Limit(1).Find(&a).Error
	return a, err
}

// BegunActs returns the subjects of acts of a kind that have not ended, or were done after a moment; only subject, where it is not empty. Those
// that are at no account count only where they were done before another moment.
func (t *Tx) BegunActs(kind, subject string, since, before time.Time) (map[string]bool, error) {
	q := t.db.Model(&Act{}).Where("parent_id IS NULL AND kind = ? AND (state IN ? OR state IN ? AND finished_at > ? AND (account_id <> 0 OR finished_at <= ?))", kind, unended, []ActState{ActDone, ActPartial}, since, before)
	if subject != "" {
		q = q.Where("subject = ?", subject)
	}
	var names []string
	err := q.Distinct().Pluck("subject", &names).Error
	begun := make(map[string]bool, len(names))
	for _, n := range names {
		begun[n] = true
	}
	return begun, err
}

// Lock is a lease on something that one job at a time may change. It lasts as long as the lease of the job that has it.
type Lock struct {
	Name   string `gorm:"primaryKey"`
	JobID  uint64
	Holder string
	Taken  uint64 // rises each time that it is taken
}

// TableName is the table that locks are kept in.
func (Lock) TableName() string { return "locks" }

// TakeLock acquires a lock for a job, and reports whether that was possible: it is not while another job that has it is leased.
func (t *Tx) TakeLock(name string, job Job) (bool, error) {
	if err := t.db.Exec("INSERT IGNORE INTO locks (name, job_id, holder, taken) VALUES (?, 0, '', 0)", name).Error; err != nil {
		return false, err
	}
	var l Lock
	if err := t.db.Raw("SELECT * FROM locks WHERE name = ? FOR UPDATE", name).Scan(&l).Error; err != nil {
		return false, err
	}
	if l.JobID == job.ID && l.Holder == job.Holder {
		return true, nil
	}
	var leased int64
	if err := t.db.Raw("SELECT COUNT(*) FROM jobs WHERE id = ? AND id <> ? AND state = 'open' AND holder = ? AND holder <> '' AND due_at > ?", l.JobID, job.ID, l.Holder, t.now()).Scan(&leased).Error; err != nil || leased > 0 {
		return false, err
	}
	return true, t.db.Exec("UPDATE locks SET job_id = ?, holder = ?, taken = taken + 1 WHERE name = ?", job.ID, job.Holder, name).Error
}

// HoldLock confirms within a transaction that a job still has a lock, and keeps it so until the transaction ends.
func (t *Tx) HoldLock(name string, job Job) error {
	var l Lock
	err := t.db.Raw("SELECT * FROM locks WHERE name = ? FOR UPDATE", name).Take(&l).Error
	if errors.Is(err, gorm.ErrRecordNotFound) || err == nil && (l.JobID != job.ID || l.Holder != job.Holder) {
		return ErrLeaseLost
	}
	return err
}

// FreeLock returns a lock back before its job ends.
func (t *Tx) FreeLock(name string, job Job) error {
	return t.db.Exec("UPDATE locks SET job_id = 0, holder = '' WHERE name = ? AND job_id = ? AND holder = ?", name, job.ID, job.Holder).Error
}
