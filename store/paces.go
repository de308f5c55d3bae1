package store

import "time"

// Pace returns the moment from which time at an account is free; the zero time where none was ever reserved.
func (t *Tx) Pace(account uint64) (from time.Time, err error) {
	err = t.db.Raw("SELECT next_at FROM account_paces WHERE account_id = ?", account).Scan(&from).Error
	return from, err
}

// ReservePace reserves time at an account, which all instances share: it returns the moment from which the caller has it for d. slow moves
// that moment on, for all, to no earlier than so long from now.
func (t *Tx) ReservePace(account uint64, d, slow time.Duration) (from time.Time, err error) {
	now := t.now()
	if err := t.db.Exec("INSERT IGNORE INTO account_paces (account_id, next_at) VALUES (?, ?)", account, now).Error; err != nil {
		return from, err
	}
	if err := t.db.Raw("SELECT next_at FROM account_paces WHERE account_id = ? FOR UPDATE", account).Scan(&from).Error; err != nil {
		return from, err
	}
	if earliest := now.Add(slow); from.Before(earliest) {
		from = earliest
	}
	return from, t.db.Exec("UPDATE account_paces SET next_at = ? WHERE account_id = ?", from.Add(d), account).Error
}
