package store

import (
	"crypto/sha256"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm/clause"

	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/core/record"
)

// JobRows is the work of bringing the rows for searching up to a zone's revision.
const JobRows = "rows"

// Rows for searching show each record of every zone's accepted revision, made for the questions that are asked of them.
// A small change is shown in the transaction that accepts it; a large one by background work, in pieces.
const (
	rowsAtOnce  = 2000
	rowsInWhole = 400 // rows in one statement
)

// followRows brings the rows of a zone up to a new revision, or asks for that to be done.
func (t *Tx) followRows(zone Zone, revisionID uint64, c record.Contents) error {
	if zone.RevisionID != nil && zone.RowsID != nil && *zone.RevisionID == *zone.RowsID {
		added, removed, err := t.between(*zone.RevisionID, revisionID)
		if err != nil {
			return err
		}
		if len(added)+len(removed) <= rowsAtOnce {
			if err := t.moveRows(zone.ID, added, removed); err != nil {
				return err
			}
			return t.rowsShow(zone.ID, revisionID)
		}
	}
	if zone.RevisionID == nil && c.Len() <= rowsAtOnce {
		if err := t.moveRows(zone.ID, c.Records(), nil); err != nil {
			return err
		}
		return t.rowsShow(zone.ID, revisionID)
	}
	return t.Enqueue(JobRows, zone.ID, t.now())
}

// between returns what differs between two revisions, of which only the chunks are read that are not the same, where they are not in memory.
func (t *Tx) between(from, to uint64) (added, removed []record.Record, err error) {
	before, known, err := t.inMemory(from)
	if err != nil {
		return nil, nil, err
	}
	after, both, err := t.inMemory(to)
	if err != nil {
		return nil, nil, err
	}
	if known && both {
		start, endBefore, endAfter := before.Differ(after)
		old, now := slices.Clone(before.Records()[start:endBefore]), slices.Clone(after.Records()[start:endAfter])
		added, removed, _ = record.Difference(record.NewContents(old), record.NewContents(now))
		return added, removed, nil
	}
	if before, err = t.contentsBeside(from, to); err != nil {
		return nil, nil, err
	}
	after, err = t.contentsBeside(to, from)
	added, removed, _ = record.Difference(before, after)
	return added, removed, err
}

// RowsBehind returns the zones whose rows do not show their revision.
func (t *Tx) RowsBehind() (ids []uint64, err error) {
	err = t.db.Raw("SELECT id FROM zones WHERE revision_id IS NOT NULL AND NOT rows_revision_id <=> revision_id ORDER BY id").Scan(&ids).Error
	return ids, err
}

// RowsPlan returns what the rows of a zone lack of its revision.
type RowsPlan struct {
	ZoneID     uint64
	RevisionID uint64
	Added      []record.Record
	Removed    []record.Record
}

// PlanRows finds out what the rows of a zone lack, and locks the zone; done is true where they lack nothing.
func (t *Tx) PlanRows(zoneID uint64) (p RowsPlan, done bool, err error) {
	var z Zone
	err = found(t.locking().Where("id = ?", zoneID).Take(&z).Error, "zone %d", zoneID)
	if err != nil || z.RevisionID == nil || z.RowsID != nil && *z.RowsID == *z.RevisionID {
		return p, err == nil, err
	}
	p = RowsPlan{ZoneID: zoneID, RevisionID: *z.RevisionID}
	if z.RowsID != nil {
		p.Added, p.Removed, err = t.between(*z.RowsID, *z.RevisionID)
		return p, false, err
	}
	c, err := t.Contents(*z.RevisionID)
	p.Added = c.Records()
	return p, false, err
}

// Pieces cuts the plan into pieces, each of which is done in a transaction of its own with MoveRows. Doing one twice does no harm.
func (p RowsPlan) Pieces() (list []RowsPlan) {
	for part := range slices.Chunk(p.Removed, rowsAtOnce) {
		list = append(list, RowsPlan{ZoneID: p.ZoneID, Removed: part})
	}
	for part := range slices.Chunk(p.Added, rowsAtOnce) {
		list = append(list, RowsPlan{ZoneID: p.ZoneID, Added: part})
	}
	return list
}

// MoveRows does one piece of a plan.
func (t *Tx) MoveRows(p RowsPlan) error { return t.moveRows(p.ZoneID, p.Added, p.Removed) }

// RowsShow notes that the rows of a zone show a revision.
func (t *Tx) RowsShow(p RowsPlan) error { return t.rowsShow(p.ZoneID, p.RevisionID) }

func (t *Tx) rowsShow(zoneID, revisionID uint64) error {
	hosts, err := t.HostsOf(zoneID)
	if err != nil {
		return err
	}
	for _, h := range hosts {
		if err := t.rowsOfHost(h); err != nil {
			return err
		}
	}
	return t.db.Exec("UPDATE zones SET rows_revision_id = ? WHERE id = ?", revisionID, zoneID).Error
}

// rowsOfHost puts the addresses that a host reported in the place of what the revision says of it.
func (t *Tx) rowsOfHost(h Host) error {
	gone := h.Gone()
	for typ, is := range map[record.Type]bool{record.A: gone.V4, record.AAAA: gone.V6} {
		if !is {
			continue
		}
		if err := t.db.Exec("DELETE FROM records WHERE zone_id = ? AND name_key = ? AND type = ?", h.ZoneID, octets(h.NameKey), uint16(typ)).Error; err != nil {
			return err
		}
	}
	for _, set := range dynaddr.Sets(h.Name(), h.TTL, h.At()) {
		if err := t.db.Exec("DELETE FROM records WHERE zone_id = ? AND name_key = ? AND type = ?", h.ZoneID, octets(h.NameKey), uint16(set.Type)).Error; err != nil {
			return err
		}
		if err := t.moveRows(h.ZoneID, set.Records(), nil); err != nil {
			return err
		}
	}
	return nil
}

// rowsWithoutHost puts back what the revision says of a name that follows no longer.
func (t *Tx) rowsWithoutHost(h Host) error {
	z, err := t.ZoneByID(h.ZoneID)
	if err != nil || z.RowsID == nil {
		return err
	}
	c, err := t.Contents(*z.RowsID)
	if err != nil {
		return err
	}
	if err := t.db.Exec("DELETE FROM records WHERE zone_id = ? AND name_key = ?", h.ZoneID, octets(h.NameKey)).Error; err != nil {
		return err
	}
	return t.moveRows(h.ZoneID, c.At(h.Name()), nil)
}

// RecordsAt returns what a zone has at a name, with the addresses that hosts reported in their places. It may be behind the
// zone's revision by a moment.
func (t *Tx) RecordsAt(zoneID uint64, name dnsname.Name) (list []record.Record, err error) {
	var rows []struct {
		Type uint16
		TTL  uint32
		Data []byte
	}
	if err := t.db.Raw("SELECT type, ttl, data FROM records WHERE zone_id = ? AND name_key = ? ORDER BY type, digest", zoneID, octets(name.Key())).Scan(&rows).Error; err != nil {
		return nil, err
	}
	for _, r := range rows {
		list = append(list, record.Record{Name: name, Type: record.Type(r.Type), TTL: r.TTL, Data: record.Data(r.Data)})
	}
	return list, nil
}

func digestOf(d record.Data) []byte {
	sum := sha256.Sum256([]byte(d))
	return sum[:12]
}

func (t *Tx) moveRows(zoneID uint64, added, removed []record.Record) error {
	for part := range slices.Chunk(removed, rowsInWhole) {
		places := make([]string, len(part))
		args := []any{zoneID}
		for i, r := range part {
			places[i] = "name_key = ? AND type = ? AND digest = ?"
			args = append(args, octets(r.Name.Key()), uint16(r.Type), octets(digestOf(r.Data)))
		}
		// Written with OR, each is found by the index; a list of triples reads all rows of the zone.
		if err := t.db.Exec("DELETE FROM records WHERE zone_id = ? AND ("+strings.Join(places, " OR ")+")", args...).Error; err != nil {
			return err
		}
	}
	for part := range slices.Chunk(added, rowsInWhole) {
		rows := make([]map[string]any, len(part))
		for i, r := range part {
			rows[i] = rowOf(zoneID, r)
		}
		if err := t.addRows(rows); err != nil {
			return err
		}
	}
	return nil
}

func (t *Tx) addRows(rows []map[string]any) error {
	if len(rows) == 0 {
		return nil
	}
	return t.db.Table("records").Clauses(clause.OnConflict{DoUpdates: clause.AssignmentColumns([]string{"ttl"})}).Create(rows).Error
}

// Longest beginnings and ends that rows are found by.
const (
	longestOwner = 255
	longestValue = 120
)

func rowOf(zoneID uint64, r record.Record) map[string]any {
	owner, value := strings.TrimSuffix(r.Name.String(), "."), r.Data.Says(r.Type)
	row := map[string]any{"zone_id": zoneID, "name_key": octets(r.Name.Key()), "type": uint16(r.Type), "digest": octets(digestOf(r.Data)), "ttl": r.TTL,
		"data": octets(r.Data), "owner": octets(head(owner, longestOwner)), "owner_back": octets(head(backwards(owner), longestOwner)),
		"value": octets(head(value, longestValue)), "value_back": octets(head(backwards(value), longestValue)), "address": nil}
	if r.Type == record.A || r.Type == record.AAAA {
		if a, err := netip.ParseAddr(string(r.Data)); err == nil {
			wide := a.As16()
			row["address"] = octets(wide[:])
		}
	}
	return row
}

func head(text string, most int) string { return text[:min(len(text), most)] }

func backwards(text string) string {
	b := []byte(text)
	slices.Reverse(b)
	return string(b)
}

// RowsAge is how long a search may take, real time, before it is broken off.
const RowsAge = 2 * time.Second
