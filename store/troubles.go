package store

import "time"

// AccountTrouble means that an account was not reached, and when it will be tried again.
type AccountTrouble struct {
	AccountID uint64
	Since     time.Time // real time, as is NextTryAt
	Problem   string
	Probes    int // that were made and failed
	NextTryAt time.Time
}

// TableName is the table that troubles are kept in.
func (AccountTrouble) TableName() string { return "account_troubles" }

// TroubleOf returns the trouble of an account; nil for none.
func (t *Tx) TroubleOf(account uint64) (*AccountTrouble, error) {
	var list []AccountTrouble
	if err := t.db.Where("account_id = ?", account).Limit(1).Find(&list).Error; err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// Troubles returns the troubles of all accounts.
func (t *Tx) Troubles() (list []AccountTrouble, err error) {
	err = t.db.Order("account_id").Find(&list).Error
	return list, err
}

// NoteTrouble keeps that an account was not reached, and has it probed at the given time. A trouble that is known already stays as it is.
func (t *Tx) NoteTrouble(account uint64, problem string, next time.Time) error {
	res := t.db.Exec("INSERT IGNORE INTO account_troubles (account_id, since, problem, probes, next_try_at) VALUES (?, ?, ?, 0, ?)", account, t.now(), cut(problem, 1000), next)
	if res.Error != nil || res.RowsAffected == 0 {
		return res.Error
	}
	return t.Enqueue(JobProbe, account, next)
}

// ProbeFailed keeps that a probe of an account failed, and when the next is made.
func (t *Tx) ProbeFailed(account uint64, problem string, next time.Time) error {
	return t.db.Exec("UPDATE account_troubles SET probes = probes + 1, problem = ?, next_try_at = ? WHERE account_id = ?", cut(problem, 1000), next, account).Error
}

// EndTrouble forgets the trouble of an account.
func (t *Tx) EndTrouble(account uint64) error {
	return t.db.Exec("DELETE FROM account_troubles WHERE account_id = ?", account).Error
}
