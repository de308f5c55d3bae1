package store

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"beacon/core/delegation"
	"beacon/core/dnsname"
)

// ZoneRow is a zone in a list, with the names that go with it.
type ZoneRow struct {
	Zone
	RegistrarName string
	Drafted       int // edits in its draft
}

// PlacementRow is a placement in a list.
type PlacementRow struct {
	Placement
	AccountName string
	LastSyncID  uint64 // of its whole zone; 0 for none
}

const zoneRow = "SELECT z.*, COALESCE(a.name, '') AS registrar_name, (SELECT COUNT(*) FROM draft_edits e WHERE e.zone_id = z.id) AS drafted FROM zones z LEFT JOIN accounts a ON a.id = z.registrar_id "

// ZonesAfter returns at most limit zones behind a name, in canonical order; the zero name begins with the first.
func (t *Tx) ZonesAfter(after dnsname.Name, limit int) (list []ZoneRow, err error) {
	in, args := t.inZones("z.name_key")
	err = t.db.Raw(zoneRow+"WHERE z.name_key > ? AND "+in+" ORDER BY z.name_key LIMIT ?", slices.Concat([]any{octets(after.Key())}, args, []any{limit})...).Scan(&list).Error
	return list, err
}

// ZoneNamed returns one zone as a list has it.
func (t *Tx) ZoneNamed(name dnsname.Name) (z ZoneRow, err error) {
	err = t.db.Raw(zoneRow+"WHERE z.name_key = ?", octets(name.Key())).Take(&z).Error
	return z, found(err, "zone %s", name)
}

// RevisionsByID returns revisions by their ids.
func (t *Tx) RevisionsByID(ids []uint64) (map[uint64]Revision, error) {
	byID := map[uint64]Revision{}
	if len(ids) == 0 {
		return byID, nil
	}
	var list []Revision
	err := t.db.Where("id IN ?", ids).Find(&list).Error
	for _, r := range list {
		byID[r.ID] = r
	}
	return byID, err
}

// PlacementsOf returns the placements of zones, by zone and in the order in which they were made.
func (t *Tx) PlacementsOf(zones []uint64) (map[uint64][]PlacementRow, error) {
	byZone := map[uint64][]PlacementRow{}
	if len(zones) == 0 {
		return byZone, nil
	}
	var list []PlacementRow
	err := t.db.Raw(`SELECT p.*, a.name AS account_name, COALESCE((SELECT MAX(s.id) FROM syncs s WHERE s.placement_id = p.id AND s.scope = ''), 0) AS last_sync_id
		FROM placements p JOIN accounts a ON a.id = p.account_id WHERE p.zone_id IN ? ORDER BY p.id`, zones).Scan(&list).Error
	for _, p := range list {
		byZone[p.ZoneID] = append(byZone[p.ZoneID], p)
	}
	return byZone, err
}

// SyncsByID returns syncs by their ids.
func (t *Tx) SyncsByID(ids []uint64) (map[uint64]Sync, error) {
	byID := map[uint64]Sync{}
	if len(ids) == 0 {
		return byID, nil
	}
	var list []Sync
	err := t.db.Where("id IN ?", ids).Find(&list).Error
	for _, s := range list {
		byID[s.ID] = s
	}
	return byID, err
}

// DomainRow is a domain in a list.
type DomainRow struct {
	ZoneID        uint64
	NameKey       string
	Description   string
	RegistrarName string
	Wanted        string // JSON
	Verdict       delegation.Verdict
	Gravest       string
	SettlesBy     *time.Time
	CheckedAt     *time.Time
	Accounts      string // where it is placed, separated by commas
}

// DomainFilter narrows a list of domains down. The zero value leaves all in it.
type DomainFilter struct {
	Verdict *delegation.Verdict // empty: not checked yet
	Gravest string              // code of the gravest finding
	Name    string              // part of the name, in lower case
	Sort    DomainOrder
	Behind  *time.Time // with a sort by time: that of the domain that the page begins behind; nil for the first page, or where it has none
}

// DomainOrder is by what a list of domains is sorted, before the name. The zero value is the name alone.
type DomainOrder string

// Domains without such a time come last.
const (
	BySettling DomainOrder = "settles_by" // those that are settled first first
	ByCheck    DomainOrder = "checked_at" // those whose last check is oldest first
)

// DomainsAfter returns at most limit domains behind a name, in canonical order or that of the filter; the zero name begins with the first.
func (t *Tx) DomainsAfter(after dnsname.Name, limit int, f DomainFilter) (list []DomainRow, err error) {
	from, where, key := "zones z LEFT JOIN domains d ON d.zone_id = z.id", []string{}, "z.name_key"
	args := []any{}
	switch { // an index of the domains has those of one verdict, or finding, in their order
	case f.Verdict != nil && *f.Verdict == "":
		where = append(where, "(d.verdict = '' OR d.verdict IS NULL)")
	case f.Verdict != nil || f.Gravest != "":
		from, key = "domains d JOIN zones z ON z.id = d.zone_id", "d.name_key"
		if f.Verdict != nil {
			where, args = append(where, "d.verdict = ?"), append(args, *f.Verdict)
		}
		if f.Gravest != "" {
			where, args = append(where, "d.gravest = ?"), append(args, f.Gravest)
		}
	}
	in, within := t.inZones(key)
	where, args = append(where, in), append(args, within...)
	order := key
	switch name := octets(after.Key()); {
	case f.Sort == "":
		where, args = append(where, key+" > ?"), append(args, name)
	case f.Sort != BySettling && f.Sort != ByCheck:
		return nil, fmt.Errorf("domains cannot be sorted by %q", f.Sort)
	default:
		at := "d." + string(f.Sort)
		order = at + " IS NULL, " + at + ", " + key
		switch {
		case f.Behind != nil:
			where, args = append(where, "("+at+" > ? OR "+at+" = ? AND "+key+" > ? OR "+at+" IS NULL)"), append(args, *f.Behind, *f.Behind, name)
		case after.Key() != "": // the page before ended among those without a time
			where, args = append(where, at+" IS NULL AND "+key+" > ?"), append(args, name)
		default:
			where = append(where, "TRUE")
		}
	}
	for _, label := range strings.FieldsFunc(f.Name, func(r rune) bool { return r == '.' }) { // what is between dots is within a label
		where, args = append(where, key+" LIKE ?"), append(args, octets("%"+likely.Replace(label)+"%"))
	}
	err = t.db.Raw(`SELECT z.id AS zone_id, z.name_key, z.description, COALESCE(a.name, '') AS registrar_name, COALESCE(d.wanted, '') AS wanted, COALESCE(d.verdict, '') AS verdict,
		COALESCE(d.gravest, '') AS gravest, d.settles_by, d.checked_at,
		COALESCE((SELECT GROUP_CONCAT(pa.name ORDER BY p.id) FROM placements p JOIN accounts pa ON pa.id = p.account_id WHERE p.zone_id = z.id), '') AS accounts
		FROM `+from+` LEFT JOIN accounts a ON a.id = z.registrar_id WHERE `+strings.Join(where, " AND ")+" ORDER BY "+order+" LIMIT ?", append(args, limit)...).Scan(&list).Error
	return list, err
}

// likely escapes what LIKE reads as patterns.
var likely = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`)

// DomainCount is how many domains have a verdict and a gravest finding.
type DomainCount struct {
	Verdict delegation.Verdict
	Gravest string
	Domains int
}

// DomainCounts returns how many domains have each verdict and gravest finding, and how many there are; those without an entry were not
// checked yet.
func (t *Tx) DomainCounts() (list []DomainCount, total int, err error) {
	in, args := t.inZones("name_key")
	if err := t.db.Raw("SELECT verdict, gravest, COUNT(*) AS domains FROM domains WHERE "+in+" GROUP BY verdict, gravest", args...).Scan(&list).Error; err != nil {
		return nil, 0, err
	}
	err = t.db.Raw("SELECT COUNT(*) FROM zones WHERE "+in, args...).Scan(&total).Error
	return list, total, err
}

// PlacedZonesAfter returns at most limit zones behind a name that have contents and a placement, in canonical order.
func (t *Tx) PlacedZonesAfter(after dnsname.Name, limit int) (list []Zone, err error) {
	in, args := t.inZones("z.name_key")
	err = t.db.Raw(`SELECT z.* FROM zones z WHERE z.name_key > ? AND z.revision_id IS NOT NULL AND (SELECT 1 FROM placements p WHERE p.zone_id = z.id LIMIT 1) = 1
		AND `+in+` ORDER BY z.name_key LIMIT ?`, slices.Concat([]any{octets(after.Key())}, args, []any{limit})...).Scan(&list).Error
	return list, err
}
