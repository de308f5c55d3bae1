package store

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
