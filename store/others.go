package store

import (
	"encoding/json"

	"beacon/core/record"
)

// mostOthers bounds how much text is kept of what else is live at a placement, octets.
const mostOthers = 8 << 20

// Others returns what else was live at a placement when it was read last, besides what was placed; nil where that is not known.
func (t *Tx) Others(placementID uint64) (*record.Contents, error) {
	var text []string
	if err := t.db.Raw("SELECT contents FROM placement_others WHERE placement_id = ?", placementID).Scan(&text).Error; err != nil || len(text) == 0 {
		return nil, err
	}
	var sets []record.Set
	if err := json.Unmarshal([]byte(text[0]), &sets); err != nil {
		return nil, err
	}
	others := record.ContentsOf(sets...)
	return &others, nil
}

// SetOthers keeps what else is live at a placement. Where that is too much, it is not known from then on.
func (t *Tx) SetOthers(placementID uint64, others record.Contents) error {
	sets := []record.Set{}
	for s := range others.Sets() {
		sets = append(sets, s)
	}
	text := jsonText(sets)
	if len(text) > mostOthers {
		return t.db.Exec("DELETE FROM placement_others WHERE placement_id = ?", placementID).Error
	}
	return t.db.Exec("INSERT INTO placement_others (placement_id, contents) VALUES (?, ?) ON DUPLICATE KEY UPDATE contents = VALUES(contents)", placementID, text).Error
}
