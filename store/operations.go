package store

import (
	"encoding/json"
	"time"

	"beacon/core/record"
)

// Operation is one change of many zones at once.
type Operation struct {
	ID       uint64    `json:"id"`
	What     string    `json:"what"`
	Author   string    `json:"author"`
	MadeAt   time.Time `json:"made_at"`
	UndoesID *uint64   `json:"undoes"` // the operation that this one takes back
	UndoneID *uint64   `json:"undone"` // the operation that took this one back
}

// TableName is the table that operations are kept in.
func (Operation) TableName() string { return "operations" }

// OperationZone is what an operation did to one zone.
type OperationZone struct {
	ZoneID     uint64
	RevisionID uint64
	Steps      []record.SetChange
}

// AddOperation keeps an operation with what it did.
func (t *Tx) AddOperation(o *Operation, zones []OperationZone) error {
	o.What, o.Author, o.MadeAt = cut(o.What, 255), cut(o.Author, 100), t.now()
	if err := t.db.Create(o).Error; err != nil {
		return err
	}
	for _, z := range zones {
		if err := t.db.Exec("INSERT INTO operation_zones (operation_id, zone_id, revision_id, steps) VALUES (?, ?, ?, ?)", o.ID, z.ZoneID, z.RevisionID, jsonText(z.Steps)).Error; err != nil {
			return err
		}
	}
	if o.UndoesID != nil {
		return t.db.Exec("UPDATE operations SET undone_id = ? WHERE id = ?", o.ID, *o.UndoesID).Error
	}
	return nil
}

// Operations returns the last operations, newest first.
func (t *Tx) Operations(limit int) (list []Operation, err error) {
	err = t.db.Order("id DESC").Limit(limit).Find(&list).Error
	return list, err
}

// LockOperation finds an operation and keeps others from it until the transaction ends.
func (t *Tx) LockOperation(id uint64) (o Operation, err error) {
	err = t.db.Raw("SELECT id, what, author, made_at, undoes_id, undone_id FROM operations WHERE id = ? FOR UPDATE", id).Scan(&o).Error
	if err == nil && o.ID == 0 {
		err = ErrNotFound
	}
	return o, found(err, "operation %d", id)
}

// OperationZones returns what an operation did, by zone.
func (t *Tx) OperationZones(id uint64) ([]OperationZone, error) {
	var rows []struct {
		ZoneID     uint64
		RevisionID uint64
		Steps      string
	}
	if err := t.db.Raw("SELECT zone_id, revision_id, steps FROM operation_zones WHERE operation_id = ? ORDER BY zone_id", id).Scan(&rows).Error; err != nil {
		return nil, err
	}
	list := make([]OperationZone, len(rows))
	for i, row := range rows {
		list[i] = OperationZone{ZoneID: row.ZoneID, RevisionID: row.RevisionID}
		if err := json.Unmarshal([]byte(row.Steps), &list[i].Steps); err != nil {
			return nil, err
		}
	}
	return list, nil
}
