package store

import "time"

// JobVerify is the kind of the jobs that make conformance runs.
const JobVerify = "verify"

// Verification is a conformance run of an account.
type Verification struct {
	ID          uint64
	AccountID   uint64
	Subject     string // the scratch zone, or the domain
	Nameservers string // to try with, JSON; of a registrar
	RequestedBy string
	State       string // pending, running, done or failed
	Checks      int    // how many there are
	Results     string // JSON
	Problem     string // why it ended before its end
	CreatedAt   time.Time
	FinishedAt  *time.Time
}

// TableName is the table that conformance runs are kept in.
func (Verification) TableName() string { return "verifications" }

// AddVerification keeps a run that is asked for.
func (t *Tx) AddVerification(v *Verification) error {
	v.State, v.Results, v.CreatedAt = "pending", "[]", t.now()
	return t.db.Create(v).Error
}

// Verification finds a run.
func (t *Tx) Verification(id uint64) (v Verification, err error) {
	err = t.db.Where("id = ?", id).Take(&v).Error
	return v, found(err, "verification %d", id)
}

// VerificationsOf returns the newest runs of an account, the newest first.
func (t *Tx) VerificationsOf(account uint64, most int) (list []Verification, err error) {
	err = t.db.Where("account_id = ?", account).Order("id DESC").Limit(most).Find(&list).Error
	return list, err
}

// UnfinishedVerification returns the run of an account that has not ended; its ID is zero where there is none.
func (t *Tx) UnfinishedVerification(account uint64) (v Verification, err error) {
	err = t.db.Where("account_id = ? AND state IN ('pending', 'running')", account).Limit(1).Find(&v).Error
	return v, err
}

// NoteVerified keeps what is known of a run so far.
func (t *Tx) NoteVerified(id uint64, checks int, results any) error {
	return t.db.Exec("UPDATE verifications SET state = 'running', checks = ?, results = ? WHERE id = ?", checks, jsonText(results), id).Error
}

// EndVerification keeps how a run ended.
func (t *Tx) EndVerification(id uint64, state, problem string) error {
	return t.db.Exec("UPDATE verifications SET state = ?, problem = ?, finished_at = ? WHERE id = ?", state, cut(problem, 60000), t.now(), id).Error
}
