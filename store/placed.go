package store

import (
	"encoding/json"
	"slices"
	"strings"
	"time"

	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/record"
)

// PlacementState is what the last look at a placement showed.
type PlacementState string

// A placement has not been looked at, holds what is desired, has something to be written, was changed elsewhere, could
// not be looked at, or was read in a way that could not be confirmed.
const (
	StateUnknown PlacementState = ""
	InSync       PlacementState = "in-sync"
	Pending      PlacementState = "pending"
	Drifted      PlacementState = "drifted"
	Unreachable  PlacementState = "unreachable"
	Unconfirmed  PlacementState = "unconfirmed"
)

// Looked is what a look at a placement showed.
type Looked struct {
	State                                  PlacementState
	Pending, Drifted, Conflicting, Foreign int
	Ours                                   int // of them, those that this service wrote itself before its database went back
	Trouble                                string
	Caps                                   string // JSON; empty to leave it
}

// SetLooked keeps what a look at a placement showed.
func (t *Tx) SetLooked(id uint64, l Looked) error {
	columns := map[string]any{"looked_at": t.now(), "state": l.State, "pending": l.Pending, "drifted": l.Drifted,
		"conflicting": l.Conflicting, "foreign_sets": l.Foreign, "our_sets": l.Ours, "trouble": cut(l.Trouble, 500)}
	if l.Caps != "" {
		columns["caps"] = l.Caps
	}
	return t.db.Model(&Placement{}).Where("id = ?", id).Updates(columns).Error
}

// SetTrouble keeps why changes made elsewhere stay.
func (t *Tx) SetTrouble(id uint64, trouble string) error {
	return t.db.Exec("UPDATE placements SET trouble = ? WHERE id = ?", cut(trouble, 500), id).Error
}

// PlacedZone is a placement with its zone and the name of its account.
type PlacedZone struct {
	Zone        Zone
	Placement   Placement
	AccountName string
}

// PlacementsToLook returns the placements of an account that are there, hold something, and were last looked at before the
// given real time or never; those longest ago first.
func (t *Tx) PlacementsToLook(account uint64, before time.Time) (list []PlacedZone, err error) {
	return t.placed("p.account_id = ? AND p.remote_id <> '' AND (p.looked_at IS NULL OR p.looked_at < ?)", "p.looked_at, p.id", account, before)
}

// PlacementsAt returns all placements at an account, those among them that the provider has not made yet.
func (t *Tx) PlacementsAt(account uint64) (list []PlacedZone, err error) {
	return t.placed("p.account_id = ?", "p.id", account)
}

func (t *Tx) placed(where, order string, args ...any) (list []PlacedZone, err error) {
	var placements []Placement
	query := "SELECT p.* FROM placements p JOIN zones z ON z.id = p.zone_id WHERE z.revision_id IS NOT NULL AND " + where + " ORDER BY " + order
	if err := t.db.Raw(query, args...).Scan(&placements).Error; err != nil {
		return nil, err
	}
	var zones []Zone
	if err := t.db.Raw("SELECT DISTINCT z.* FROM placements p JOIN zones z ON z.id = p.zone_id WHERE z.revision_id IS NOT NULL AND "+where, args...).Scan(&zones).Error; err != nil {
		return nil, err
	}
	var accounts []Account
	if err := t.db.Find(&accounts).Error; err != nil {
		return nil, err
	}
	byID, names := map[uint64]Zone{}, map[uint64]string{}
	for _, z := range zones {
		byID[z.ID] = z
	}
	for _, a := range accounts {
		names[a.ID] = a.Name
	}
	for _, p := range placements {
		if zone, ok := byID[p.ZoneID]; ok { // else it has just been changed, and is no longer asked for
			list = append(list, PlacedZone{zone, p, names[p.AccountID]})
		}
	}
	return list, nil
}

// Written notes that something was written to a placement.
func (t *Tx) Written(id uint64) error {
	return t.db.Exec("UPDATE placements SET written_at = ? WHERE id = ?", t.now(), id).Error
}

// PlacedSet is one record set as we last put it at a placement.
type PlacedSet = diff.Placed

type placedRow struct {
	PlacementID uint64
	NameKey     []byte
	Type        uint16
	Sent        string
	ReadBack    *string
}

// Placed returns everything that we put at a placement; at some names only, where any are given.
func (t *Tx) Placed(placementID uint64, at ...dnsname.Name) ([]PlacedSet, error) {
	query := t.db.Table("placed_sets").Select("name_key, type, sent, read_back").Where("placement_id = ?", placementID)
	if len(at) > 0 {
		query = query.Where("name_key IN ?", nameKeys(at))
	}
	var rows []placedRow
	if err := query.Order("name_key, type").Find(&rows).Error; err != nil {
		return nil, err
	}
	return placedSets(rows)
}

func nameKeys(names []dnsname.Name) []octets {
	keys := make([]octets, len(names))
	for i, n := range names {
		keys[i] = octets(n.Key())
	}
	return keys
}

// PlacedAt returns what was put at a placement at some names, as it was sent.
func (t *Tx) PlacedAt(placementID uint64, names []dnsname.Name) (c record.Contents, err error) {
	var rows []placedRow
	if err := t.db.Raw("SELECT name_key, type, sent, read_back FROM placed_sets WHERE placement_id = ? AND name_key IN ?", placementID, nameKeys(names)).Scan(&rows).Error; err != nil {
		return c, err
	}
	placed, err := placedSets(rows)
	sets := make([]record.Set, len(placed))
	for i, p := range placed {
		sets[i] = p.Sent
	}
	return record.ContentsOf(sets...), err
}

func placedSets(rows []placedRow) ([]PlacedSet, error) {
	sets := make([]PlacedSet, len(rows))
	for i, row := range rows {
		if err := json.Unmarshal([]byte(row.Sent), &sets[i].Sent); err != nil {
			return nil, err
		}
		switch {
		case row.ReadBack == nil:
		case *row.ReadBack == "":
			sets[i].Read = sets[i].Sent
		default:
			if err := json.Unmarshal([]byte(*row.ReadBack), &sets[i].Read); err != nil {
				return nil, err
			}
		}
	}
	return sets, nil
}

// SetPlaced remembers sets as put at a placement.
func (t *Tx) SetPlaced(placementID uint64, sets []PlacedSet) error {
	const atATime = 500
	for some := range slices.Chunk(sets, atATime) {
		args := make([]any, 0, 5*len(some))
		for _, s := range some {
			var back *string
			switch {
			case s.Read.IsZero():
			case s.Read.Equal(s.Sent):
				back = new(string)
			default:
				text := jsonText(s.Read)
				back = &text
			}
			args = append(args, placementID, octets(s.Sent.Name.Key()), uint16(s.Sent.Type), jsonText(s.Sent), back)
		}
		query := "INSERT INTO placed_sets (placement_id, name_key, type, sent, read_back) VALUES " + strings.TrimSuffix(strings.Repeat("(?, ?, ?, ?, ?), ", len(some)), ", ") +
			" ON DUPLICATE KEY UPDATE sent = VALUES(sent), read_back = VALUES(read_back)"
		if err := t.db.Exec(query, args...).Error; err != nil {
			return err
		}
	}
	return nil
}

// ReadAsSent notes that the provider gave everything back as it was sent that was not read back before.
func (t *Tx) ReadAsSent(placementID uint64) error {
	return t.db.Exec("UPDATE placed_sets SET read_back = '' WHERE placement_id = ? AND read_back IS NULL", placementID).Error
}

// ForgetPlaced forgets sets that are no longer there.
func (t *Tx) ForgetPlaced(placementID uint64, keys []record.Key) error {
	for _, k := range keys {
		if err := t.db.Exec("DELETE FROM placed_sets WHERE placement_id = ? AND name_key = ? AND type = ?", placementID, octets(k.Name.Key()), uint16(k.Type)).Error; err != nil {
			return err
		}
	}
	return nil
}

// LookNow has a placement looked at with the next look at its account.
func (t *Tx) LookNow(placement uint64) error {
	return t.db.Exec("UPDATE placements SET looked_at = NULL WHERE id = ?", placement).Error
}

// PlacementCount counts the placements of an account.
type PlacementCount struct {
	AccountID     uint64
	All, Troubled int
}

// PlacementCounts returns how many zones are placed at each account, and how many of them drifted or cannot be reached.
func (t *Tx) PlacementCounts() (map[uint64]PlacementCount, error) {
	var rows []PlacementCount
	err := t.db.Raw("SELECT account_id, COUNT(*) AS `all`, SUM(state IN (?, ?, ?)) AS troubled FROM placements GROUP BY account_id", Drifted, Unreachable, Unconfirmed).Scan(&rows).Error
	counts := map[uint64]PlacementCount{}
	for _, r := range rows {
		counts[r.AccountID] = r
	}
	return counts, err
}
