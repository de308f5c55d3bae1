package store

import (
	"encoding/json"
	"time"

	"beacon/core/record"
)

// DraftEdit is one set of a zone's draft: what it was when the edit was made, and what it shall become.
type DraftEdit struct {
	Before   record.Set
	After    record.Set
	Author   string
	EditedAt time.Time
	// Attributes are the declared attributes of the set before and after; nil where they are not edited.
	Attributes *AttributeEdit
}

// AttributeEdit is what the declared attributes of a set were and shall be, by name.
type AttributeEdit struct {
	Before map[string]string `json:"before"`
	After  map[string]string `json:"after"`
}

// Key is the set that is edited: one of the two is there.
func (e DraftEdit) Key() record.Key {
	if e.After.IsZero() {
		return e.Before.Key()
	}
	return e.After.Key()
}

type draftRow struct {
	NameKey   string
	Type      uint16
	SetBefore string
	SetAfter  string
	Author    string
	EditedAt  time.Time

	Attributes *string
}

// DraftEdits returns the edits of a zone's draft in the order of their sets.
func (t *Tx) DraftEdits(zoneID uint64) ([]DraftEdit, error) {
	var rows []draftRow
	if err := t.db.Raw("SELECT name_key, type, set_before, set_after, author, edited_at, attributes FROM draft_edits WHERE zone_id = ? ORDER BY name_key, type", zoneID).Scan(&rows).Error; err != nil {
		return nil, err
	}
	return readEdits(rows)
}

func readEdits(rows []draftRow) ([]DraftEdit, error) {
	edits := make([]DraftEdit, len(rows))
	for i, row := range rows {
		edits[i].Author, edits[i].EditedAt = row.Author, row.EditedAt
		if err := json.Unmarshal([]byte(row.SetBefore), &edits[i].Before); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(row.SetAfter), &edits[i].After); err != nil {
			return nil, err
		}
		if row.Attributes != nil {
			if err := json.Unmarshal([]byte(*row.Attributes), &edits[i].Attributes); err != nil {
				return nil, err
			}
		}
	}
	return edits, nil
}

// PutDraftEdit keeps an edit of the set at k in place of an earlier one. The zone must be locked.
func (t *Tx) PutDraftEdit(zoneID uint64, k record.Key, e DraftEdit) error {
	var attributes *string
	if e.Attributes != nil {
		text := jsonText(e.Attributes)
		attributes = &text
	}
	return t.db.Exec(`INSERT INTO draft_edits (zone_id, name_key, type, set_before, set_after, author, edited_at, attributes) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE set_before = VALUES(set_before), set_after = VALUES(set_after), author = VALUES(author), edited_at = VALUES(edited_at), attributes = VALUES(attributes)`,
		zoneID, octets(k.Name.Key()), uint16(k.Type), jsonText(e.Before), jsonText(e.After), cut(e.Author, 100), t.now(), attributes).Error
}

// DiscardDraftEdit forgets the edit of a set.
func (t *Tx) DiscardDraftEdit(zoneID uint64, k record.Key) error {
	return t.db.Exec("DELETE FROM draft_edits WHERE zone_id = ? AND name_key = ? AND type = ?", zoneID, octets(k.Name.Key()), uint16(k.Type)).Error
}

// DiscardDraft forgets all edits of a zone's draft.
func (t *Tx) DiscardDraft(zoneID uint64) error {
	return t.db.Exec("DELETE FROM draft_edits WHERE zone_id = ?", zoneID).Error
}

// DraftChanged notes that a zone's draft is not what it was.
func (t *Tx) DraftChanged(zoneID uint64) error {
	return t.db.Exec("UPDATE zones SET draft = draft + 1 WHERE id = ?", zoneID).Error
}
