package store

// LaterEdits returns the edits of a zone that are proposed once nobody asks its old nameservers, in the order of their sets.
func (t *Tx) LaterEdits(zoneID uint64) ([]DraftEdit, error) {
	var rows []draftRow
	if err := t.db.Raw("SELECT name_key, type, set_before, set_after, author, edited_at FROM later_edits WHERE zone_id = ? ORDER BY name_key, type", zoneID).Scan(&rows).Error; err != nil {
		return nil, err
	}
	return readEdits(rows)
}

// PutLaterEdit keeps an edit that is proposed later. What an earlier one of the same set proposes stays.
func (t *Tx) PutLaterEdit(zoneID uint64, e DraftEdit) error {
	k := e.Key()
	return t.db.Exec(`INSERT INTO later_edits (zone_id, name_key, type, set_before, set_after, author, edited_at) VALUES (?, ?, ?, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE set_before = VALUES(set_before)`,
		zoneID, octets(k.Name.Key()), uint16(k.Type), jsonText(e.Before), jsonText(e.After), cut(e.Author, 100), t.now()).Error
}

// ForgetLaterEdits forgets the edits of a zone that are proposed later.
func (t *Tx) ForgetLaterEdits(zoneID uint64) error {
	return t.db.Exec("DELETE FROM later_edits WHERE zone_id = ?", zoneID).Error
}
