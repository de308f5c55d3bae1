package store

import (
	"cmp"
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"time"

	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/record"
)

// Zone is a zone that is looked after here.
type Zone struct {
	ID           uint64
	NameKey      string
	Description  string
	RegistrarID  *uint64
	DelegateToID *uint64
	RevisionID   *uint64
	CreatedAt    time.Time
	ManagedBy    string  // the definition file that says what it contains; empty for none
	Detached     bool    // a user took it out of the hands of its file
	IgnoreSets   string  // patterns, JSON
	TTL          uint32  `gorm:"column:ttl"` // of records that state none, seconds; 0 for the commonest
	Draft        uint64  // rises with every change to its draft
	RowsID       *uint64 `gorm:"column:rows_revision_id"` // the revision that the rows for searching show
	Attributes   *string // declared attributes, JSON
	ProtectSets  *string // patterns, JSON
	DriftPolicy  string
	KeepExisting bool
	Followed     bool       // the file that manages it is in the followed folder
	VanishedAt   *time.Time // since when the file that manages it is gone, or does not name it any more, real time
	WebsiteNames *string    // that carry a site, JSON; NULL for those that usually do
	SOA          *string    `gorm:"column:soa"` // desired fields of the SOA record, JSON; NULL for none of its own
}

// TableName is the table that zones are kept in.
func (Zone) TableName() string { return "zones" }

// Name is the zone's apex.
func (z Zone) Name() dnsname.Name { return dnsname.FromKey(z.NameKey) }

// ZonesAmong returns which of some names are zones here.
func (t *Tx) ZonesAmong(names []dnsname.Name) (map[dnsname.Name]bool, error) {
	there := map[dnsname.Name]bool{}
	for some := range slices.Chunk(names, 1000) {
		keys := make([]octets, len(some))
		for i, n := range some {
			keys[i] = octets(n.Key())
		}
		var found []string
		if err := t.db.Raw("SELECT name_key FROM zones WHERE name_key IN ?", keys).Scan(&found).Error; err != nil {
			return nil, err
		}
		for _, key := range found {
			there[dnsname.FromKey(key)] = true
		}
	}
	return there, nil
}

// Zone finds a zone by name.
func (t *Tx) Zone(name dnsname.Name) (z Zone, err error) {
	err = t.db.Where("name_key = ?", octets(name.Key())).Take(&z).Error
	return z, found(err, "zone %s", name)
}

// LockZone finds a zone and keeps others from it until the transaction ends.
func (t *Tx) LockZone(name dnsname.Name) (z Zone, err error) {
	err = t.locking().Where("name_key = ?", octets(name.Key())).Take(&z).Error
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
	err := t.db.Exec("INSERT INTO zones (name_key, description, created_at) VALUES (?, '', ?)", octets(z.NameKey), z.CreatedAt).Error
	if err != nil {
		return z, found(err, "zone %s", name)
	}
	return t.LockZone(name)
}

// DeleteZone forgets a zone and all that is known of it.
func (t *Tx) DeleteZone(id uint64) error {
	if err := t.db.Exec("UPDATE locations l JOIN hosts h ON h.location_id = l.id SET l.version = l.version + 1 WHERE h.zone_id = ?", id).Error; err != nil {
		return err
	}
	if err := t.db.Exec("DELETE FROM zones WHERE id = ?", id).Error; err != nil {
		return err
	}
	return t.removeLone()
}

// AccountsOf returns the names of the accounts that a zone is placed at.
func (t *Tx) AccountsOf(zoneID uint64) (names []string, err error) {
	err = t.db.Raw("SELECT a.name FROM placements p JOIN accounts a ON a.id = p.account_id WHERE p.zone_id = ? ORDER BY p.id", zoneID).Scan(&names).Error
	return names, err
}

// Ignored returns the patterns of sets that another system manages.
func (z Zone) Ignored() []record.Pattern { return z.patterns(z.IgnoreSets) }

// ZoneSettings returns the settings of the zone.
func (z Zone) ZoneSettings() definition.Settings {
	c := definition.Settings{Drift: cmp.Or(z.DriftPolicy, definition.DriftManual), KeepExisting: z.KeepExisting}
	if z.Attributes != nil {
		_ = json.Unmarshal([]byte(*z.Attributes), &c.Attributes) // written by SetZone
	}
	if z.ProtectSets != nil {
		c.Protect = z.patterns(*z.ProtectSets)
	}
	if z.WebsiteNames != nil {
		_ = json.Unmarshal([]byte(*z.WebsiteNames), &c.Websites) // written by SetZone
	}
	if z.SOA != nil {
		_ = json.Unmarshal([]byte(*z.SOA), &c.SOA) // written by SetZone
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
	Description  string
	RegistrarID  *uint64
	DelegateToID *uint64 // the provider account whose nameservers are desired, once it has assigned them
	TTL          uint32
	Ignore       []record.Pattern
	ManagedBy    string
	Settings     definition.Settings
}

// SetZoneSettings changes the settings of a zone.
func (t *Tx) SetZoneSettings(id uint64, settings definition.Settings) error {
	return t.db.Model(&Zone{}).Where("id = ?", id).Updates(settingsColumns(settings)).Error
}

func settingsColumns(settings definition.Settings) map[string]any {
	var sites, soa *string
	if settings.Websites != nil {
		text := jsonText(settings.Websites)
		sites = &text
	}
	if !settings.SOA.IsZero() {
		text := jsonText(settings.SOA)
		soa = &text
	}
	return map[string]any{"attributes": attributesText(settings.Attributes), "protect_sets": patternTexts(settings.Protect), "drift_policy": settings.Drift, "keep_existing": settings.KeepExisting, "website_names": sites, "soa": soa}
}

func patternTexts(patterns []record.Pattern) string {
	list := make([]string, len(patterns))
	for i, p := range patterns {
		list[i] = p.String()
	}
	return jsonText(list)
}

// SetZone changes what a definition says about a zone besides its records, and reports whether anything changed by that.
func (t *Tx) SetZone(id uint64, said ZoneSaid) (changed bool, err error) {
	columns := settingsColumns(said.Settings)
	maps.Copy(columns, map[string]any{"description": cut(said.Description, 255), "registrar_id": said.RegistrarID, "delegate_to_id": said.DelegateToID, "ttl": said.TTL,
		"ignore_sets": patternTexts(said.Ignore), "managed_by": cut(said.ManagedBy, 255), "detached": false})
	before, err := t.ZoneByID(id)
	if err != nil {
		return false, err
	}
	if err := t.db.Model(&Zone{}).Where("id = ?", id).Updates(columns).Error; err != nil {
		return false, err
	}
	after, err := t.ZoneByID(id)
	return !reflect.DeepEqual(before, after), err
}

// SetRegistrar keeps which account at a registrar has the domain of a zone that names none.
func (t *Tx) SetRegistrar(id, account uint64) error {
	return t.db.Exec("UPDATE zones SET registrar_id = ? WHERE id = ? AND registrar_id IS NULL", account, id).Error
}

// Detach detaches a zone from its definition file.
func (t *Tx) Detach(id uint64) error {
	return t.db.Exec("UPDATE zones SET managed_by = '', detached = TRUE WHERE id = ?", id).Error
}
