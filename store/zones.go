package store

import (
	"cmp"
	"encoding/json"
	"maps"
	"time"

	"gorm.io/gorm/clause"

	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/record"
)

// Zone is a zone that is looked after here.
type Zone struct {
	ID          uint64
	NameKey     string
	Label       string
	RegistrarID *uint64
	RevisionID  *uint64
	CreatedAt   time.Time
	LedBy       string  // the definition file that says what it contains; empty for none
	TakenOver   bool    // a person took it out of the hands of its file
	LeaveSets   string  // patterns, JSON
	TTL         uint32  `gorm:"column:ttl"` // of records that state none, seconds; 0 for the commonest
	Draft       uint64  // rises with every change to its draft
	RowsID      *uint64 `gorm:"column:rows_revision_id"` // the revision that the rows for searching show
	Extras      *string // declared attributes, JSON
	ProtectSets *string // patterns, JSON
	DriftPolicy string
	OnlyOurs    bool
	SiteNames   *string // that carry a site, JSON; NULL for those that usually do
}

// TableName is the table that zones are kept in.
func (Zone) TableName() string { return "zones" }

// Name is the zone's apex.
func (z Zone) Name() dnsname.Name { return dnsname.FromKey(z.NameKey) }

// Zones gives all zones in canonical order.
func (t *Tx) Zones() (list []Zone, err error) {
	err = t.db.Order("name_key").Find(&list).Error
	return list, err
}

// Zone finds a zone by name.
func (t *Tx) Zone(name dnsname.Name) (z Zone, err error) {
	err = t.db.Where("name_key = ?", octets(name.Key())).Take(&z).Error
	return z, found(err, "zone %s", name)
}

// LockZone finds a zone and keeps others from it until the transaction ends.
func (t *Tx) LockZone(name dnsname.Name) (z Zone, err error) {
	err = t.db.Clauses(clause.Locking{Strength: "UPDATE"}).Where("name_key = ?", octets(name.Key())).Take(&z).Error
	return z, found(err, "zone %s", name)
}

// ZoneByID finds a zone.
func (t *Tx) ZoneByID(id uint64) (z Zone, err error) {
	err = t.db.Where("id = ?", id).Take(&z).Error
	return z, found(err, "zone %d", id)
}

// AddZone keeps a new zone and locks it.
func (t *Tx) AddZone(name dnsname.Name) (Zone, error) {
	z := Zone{NameKey: name.Key(), CreatedAt: t.now()}
	err := t.db.Exec("INSERT INTO zones (name_key, label, created_at) VALUES (?, '', ?)", octets(z.NameKey), z.CreatedAt).Error
	if err != nil {
		return z, found(err, "zone %s", name)
	}
	return t.LockZone(name)
}

// Leave gives the patterns of sets that somebody else looks after.
func (z Zone) Leave() []record.Pattern { return z.patterns(z.LeaveSets) }

// Care gives how the zone is looked after.
func (z Zone) Care() definition.Care {
	c := definition.Care{Drift: cmp.Or(z.DriftPolicy, definition.DriftAsk), OnlyOurs: z.OnlyOurs}
	if z.Extras != nil {
		_ = json.Unmarshal([]byte(*z.Extras), &c.Extras) // written by SetZone
	}
	if z.ProtectSets != nil {
		c.Protect = z.patterns(*z.ProtectSets)
	}
	if z.SiteNames != nil {
		_ = json.Unmarshal([]byte(*z.SiteNames), &c.Sites) // written by SetZone
	}
	return c
}

func (z Zone) patterns(stored string) (list []record.Pattern) {
	var texts []string
	_ = json.Unmarshal([]byte(stored), &texts) // written by SetZone
	for _, text := range texts {
		if p, err := record.ParsePattern(text, z.Name()); err == nil {
			list = append(list, p)
		}
	}
	return list
}

// ZoneSaid is what a definition says about a zone besides its records.
type ZoneSaid struct {
	Label       string
	RegistrarID *uint64
	TTL         uint32
	Leave       []record.Pattern
	LedBy       string
	Care        definition.Care
}

// SetCare changes how a zone is looked after.
func (t *Tx) SetCare(id uint64, care definition.Care) error {
	return t.db.Model(&Zone{}).Where("id = ?", id).Updates(careColumns(care)).Error
}

func careColumns(care definition.Care) map[string]any {
	var sites *string
	if care.Sites != nil {
		text := jsonText(care.Sites)
		sites = &text
	}
	return map[string]any{"extras": jsonText(care.Extras), "protect_sets": patternTexts(care.Protect), "drift_policy": care.Drift, "only_ours": care.OnlyOurs, "site_names": sites}
}

func patternTexts(patterns []record.Pattern) string {
	list := make([]string, len(patterns))
	for i, p := range patterns {
		list[i] = p.String()
	}
	return jsonText(list)
}

// SetZone changes what is said about a zone.
func (t *Tx) SetZone(id uint64, said ZoneSaid) error {
	columns := careColumns(said.Care)
	maps.Copy(columns, map[string]any{"label": cut(said.Label, 255), "registrar_id": said.RegistrarID, "ttl": said.TTL,
		"leave_sets": patternTexts(said.Leave), "led_by": cut(said.LedBy, 255), "taken_over": false})
	return t.db.Model(&Zone{}).Where("id = ?", id).Updates(columns).Error
}

// TakeOver takes a zone out of the hands of its definition file.
func (t *Tx) TakeOver(id uint64) error {
	return t.db.Exec("UPDATE zones SET led_by = '', taken_over = TRUE WHERE id = ?", id).Error
}

// Placement is one zone at one provider account.
type Placement struct {
	ID          uint64
	ZoneID      uint64
	AccountID   uint64
	RemoteID    string // empty until the zone is made there
	Nameservers string // JSON
	CreatedAt   time.Time
	WrittenAt   *time.Time // last write, wall time
	LookedAt    *time.Time // when the live state was last compared, wall time
	Standing    Standing
	ToWrite     int
	Drifted     int
	Conflicting int
	Foreign     int `gorm:"column:foreign_sets"`
	Trouble     string
	Caps        *string // JSON
}

// Standing is what the last look at a placement showed.
type Standing string

// A placement has not been looked at, holds what is wanted, has something to be written, was changed elsewhere, or could
// not be looked at.
const (
	StandingUnknown Standing = ""
	InStep          Standing = "in step"
	ToWrite         Standing = "to write"
	Drifted         Standing = "drifted"
	Unreachable     Standing = "unreachable"
)

// Looked is what a look at a placement showed.
type Looked struct {
	Standing                               Standing
	ToWrite, Drifted, Conflicting, Foreign int
	Trouble                                string
	Caps                                   string // JSON; empty to leave it
}

// SetLooked keeps what a look at a placement showed.
func (t *Tx) SetLooked(id uint64, l Looked) error {
	columns := map[string]any{"looked_at": t.now(), "standing": l.Standing, "to_write": l.ToWrite, "drifted": l.Drifted,
		"conflicting": l.Conflicting, "foreign_sets": l.Foreign, "trouble": cut(l.Trouble, 500)}
	if l.Caps != "" {
		columns["caps"] = l.Caps
	}
	return t.db.Model(&Placement{}).Where("id = ?", id).Updates(columns).Error
}

// PlacedZone is a placement with its zone and the name of its account.
type PlacedZone struct {
	Zone        Zone
	Placement   Placement
	AccountName string
}

// PlacementsToLook gives the placements of an account that are there, hold something, and were last looked at before the
// given wall time or never; those longest ago first.
func (t *Tx) PlacementsToLook(account uint64, before time.Time) (list []PlacedZone, err error) {
	return t.placed("p.account_id = ? AND p.remote_id <> '' AND (p.looked_at IS NULL OR p.looked_at < ?)", "p.looked_at, p.id", account, before)
}

// Standings gives all placements, by zone.
func (t *Tx) Standings() ([]PlacedZone, error) { return t.placed("TRUE", "z.name_key, p.id") }

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

// RemovePlacement forgets a placement and all that is known of it.
func (t *Tx) RemovePlacement(id uint64) error {
	return t.db.Exec("DELETE FROM placements WHERE id = ?", id).Error
}

// Written notes that something was written to a placement.
func (t *Tx) Written(id uint64) error {
	return t.db.Exec("UPDATE placements SET written_at = ? WHERE id = ?", t.now(), id).Error
}

// TableName is the table that placements are kept in.
func (Placement) TableName() string { return "placements" }

// Names gives the nameservers that the provider gave the zone.
func (p Placement) Names() []dnsname.Name { return namesFrom(p.Nameservers) }

func namesFrom(text string) (names []dnsname.Name) {
	if text == "" || text == "null" || text == "[]" {
		return nil
	}
	_ = json.Unmarshal([]byte(text), &names) // written by jsonText below
	return names
}

func jsonText(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // our own types only
	}
	return string(text)
}

// Place makes sure that a zone has a placement at an account.
func (t *Tx) Place(zoneID, accountID uint64) (p Placement, err error) {
	err = t.db.Exec("INSERT IGNORE INTO placements (zone_id, account_id, remote_id, nameservers, created_at) VALUES (?, ?, '', '[]', ?)",
		zoneID, accountID, t.now()).Error
	if err == nil {
		err = t.db.Where("zone_id = ? AND account_id = ?", zoneID, accountID).Take(&p).Error
	}
	return p, found(err, "placement")
}

// Placements gives a zone's placements in the order in which they were made.
func (t *Tx) Placements(zoneID uint64) (list []Placement, err error) {
	err = t.db.Where("zone_id = ?", zoneID).Order("id").Find(&list).Error
	return list, err
}

// PlacementByID finds a placement.
func (t *Tx) PlacementByID(id uint64) (p Placement, err error) {
	err = t.db.Where("id = ?", id).Take(&p).Error
	return p, found(err, "placement %d", id)
}

// LockPlacement gives a placement and keeps others from it until the transaction ends.
func (t *Tx) LockPlacement(id uint64) (p Placement, err error) {
	err = t.db.Clauses(clause.Locking{Strength: "UPDATE"}).Where("id = ?", id).Take(&p).Error
	return p, found(err, "placement %d", id)
}

// SetRemote keeps how the provider names the zone, and the nameservers it gave.
func (t *Tx) SetRemote(placementID uint64, remoteID string, nameservers []dnsname.Name) error {
	return t.db.Model(&Placement{}).Where("id = ?", placementID).
		Updates(map[string]any{"remote_id": remoteID, "nameservers": jsonText(nameservers)}).Error
}

// PlacedSet is one record set as we last put it at a placement.
type PlacedSet struct {
	Sent record.Set
	Read record.Set // as the provider gave it back; zero as long as it has not been read back
}

type placedRow struct {
	PlacementID uint64
	NameKey     []byte
	Type        uint16
	Sent        string
	ReadBack    *string
}

// Placed gives everything that we put at a placement.
func (t *Tx) Placed(placementID uint64) ([]PlacedSet, error) {
	var rows []placedRow
	if err := t.db.Raw("SELECT name_key, type, sent, read_back FROM placed_sets WHERE placement_id = ? ORDER BY name_key, type", placementID).Scan(&rows).Error; err != nil {
		return nil, err
	}
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
	rows := make([]map[string]any, 0, len(sets))
	for _, s := range sets {
		row := map[string]any{"placement_id": placementID, "name_key": octets(s.Sent.Name.Key()), "type": uint16(s.Sent.Type),
			"sent": jsonText(s.Sent), "read_back": nil}
		switch {
		case s.Read.IsZero():
		case s.Read.Equal(s.Sent):
			row["read_back"] = ""
		default:
			row["read_back"] = jsonText(s.Read)
		}
		rows = append(rows, row)
	}
	if len(rows) == 0 {
		return nil
	}
	return t.db.Table("placed_sets").Clauses(clause.OnConflict{DoUpdates: clause.AssignmentColumns([]string{"sent", "read_back"})}).CreateInBatches(rows, 200).Error
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
