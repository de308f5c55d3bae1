package store

import "beacon/core/dnsname"

// Watched is what is known of the followed folder, for all instances.
type Watched struct {
	Taken   string // digest of the files that were accepted, or tried, last
	Trouble string // what was logged last; empty where all went well
}

// Watched returns what is known of the followed folder.
func (t *Tx) Watched() (w Watched, err error) {
	err = t.db.Raw("SELECT taken, trouble FROM watched WHERE id = 1").Scan(&w).Error
	return w, err
}

// SetWatched keeps what is known of the followed folder.
func (t *Tx) SetWatched(w Watched) error {
	return t.db.Exec("INSERT INTO watched (id, taken, trouble) VALUES (1, ?, ?) ON DUPLICATE KEY UPDATE taken = VALUES(taken), trouble = VALUES(trouble)", w.Taken, cut(w.Trouble, 60000)).Error
}

// Follow records which zones the files of the followed folder name, and returns those that they named before and do not any more, once.
func (t *Tx) Follow(named []dnsname.Name) (vanished []Zone, err error) {
	keys := make([]octets, 0, len(named)+1)
	for _, n := range named {
		keys = append(keys, octets(n.Key()))
	}
	keys = append(keys, "") // a list is never empty
	if err := t.db.Exec("UPDATE zones SET followed = TRUE, vanished_at = NULL WHERE name_key IN ?", keys).Error; err != nil {
		return nil, err
	}
	if err := t.db.Where("followed AND vanished_at IS NULL AND managed_by <> '' AND name_key NOT IN ?", keys).Find(&vanished).Error; err != nil || len(vanished) == 0 {
		return nil, err
	}
	ids := make([]uint64, len(vanished))
	for i, z := range vanished {
		ids[i] = z.ID
	}
	return vanished, t.db.Exec("UPDATE zones SET vanished_at = ? WHERE id IN ?", t.now(), ids).Error
}
