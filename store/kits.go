package store

// KeepKits keeps the kits of definitions, by name.
func (t *Tx) KeepKits(bodies map[string]string) error {
	for name, body := range bodies {
		if err := t.db.Exec("REPLACE INTO kits (name, body, updated_at) VALUES (?, ?, ?)", name, body, t.now()).Error; err != nil {
			return err
		}
	}
	return nil
}

// Kits returns all kits that are kept, in the order of their names.
func (t *Tx) Kits() (bodies []string, err error) {
	err = t.db.Raw("SELECT body FROM kits ORDER BY name").Scan(&bodies).Error
	return bodies, err
}
