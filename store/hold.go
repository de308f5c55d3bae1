package store

import "time"

// Hold keeps the service from changing anything outside, until a user releases it: for all, or placement by placement.
type Hold struct {
	Since  time.Time
	Reason string
	Asked  string // who asked for it; "service" where the database went back
}

// TheHold returns the hold; nil where there is none.
func (t *Tx) TheHold() (*Hold, error) {
	var list []Hold
	if err := t.db.Raw("SELECT since, reason, asked FROM hold WHERE id = 1").Scan(&list).Error; err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// SetHold keeps the service from changing anything outside. A hold that is there already stays as it is.
func (t *Tx) SetHold(reason, asked string) (begun bool, err error) {
	res := t.db.Exec("INSERT IGNORE INTO hold (id, since, reason, asked) VALUES (1, ?, ?, ?)", t.now(), cut(reason, 500), cut(asked, 100))
	if res.Error != nil || res.RowsAffected == 0 {
		return false, res.Error
	}
	if err := t.db.Exec("DELETE FROM hold_released").Error; err != nil {
		return false, err
	}
	if err := t.db.Exec("UPDATE placements SET looked_at = NULL").Error; err != nil { // all are looked at now
		return false, err
	}
	var accounts []uint64
	if err := t.db.Raw("SELECT DISTINCT account_id FROM placements").Scan(&accounts).Error; err != nil {
		return false, err
	}
	for _, a := range accounts {
		if err := t.EnqueueIn(JobLookOnce, a, a, t.now()); err != nil {
			return false, err
		}
	}
	return true, nil
}

// AnyMade reports whether anything was ever made at a provider.
func (t *Tx) AnyMade() (made bool, err error) {
	err = t.db.Raw("SELECT EXISTS (SELECT 1 FROM placements WHERE remote_id <> '')").Scan(&made).Error
	return made, err
}

// ReleaseAll ends the hold.
func (t *Tx) ReleaseAll() error {
	if err := t.db.Exec("DELETE FROM hold").Error; err != nil {
		return err
	}
	return t.db.Exec("DELETE FROM hold_released").Error
}

// Release ends the hold for one placement.
func (t *Tx) Release(placementID uint64) error {
	return t.db.Exec("INSERT IGNORE INTO hold_released (placement_id) VALUES (?)", placementID).Error
}

// Held reports whether a placement may not be written to; 0 stands for anything that is no placement, such as a domain at its registrar.
func (t *Tx) Held(placementID uint64) (held bool, err error) {
	err = t.db.Raw("SELECT EXISTS (SELECT 1 FROM hold) AND NOT EXISTS (SELECT 1 FROM hold_released WHERE placement_id = ?)", placementID).Scan(&held).Error
	return held, err
}

// HeldRow is a placement that is held, as it was seen last.
type HeldRow struct {
	HeldPlacement
	Released bool
}

// HeldPlacements returns all placements that are made, with whether each was released.
func (t *Tx) HeldPlacements() (list []HeldRow, err error) {
	err = t.db.Raw(`SELECT p.*, z.name_key, a.name AS account_name, r.placement_id IS NOT NULL AS released FROM placements p JOIN zones z ON z.id = p.zone_id
		JOIN accounts a ON a.id = p.account_id LEFT JOIN hold_released r ON r.placement_id = p.id WHERE p.remote_id <> '' ORDER BY z.name_key, p.id`).Scan(&list).Error
	return list, err
}

// HeldPlacement is a placement in a list of placements.
type HeldPlacement struct {
	Placement
	NameKey     string
	AccountName string
}
