package store

import (
	"encoding/json"
	"time"

	"beacon/core/dnsname"
)

// Placement is one zone at one provider account.
type Placement struct {
	ID          uint64
	ZoneID      uint64
	AccountID   uint64
	RemoteID    string // empty until the zone is made there
	Nameservers string // JSON
	CreatedAt   time.Time
	WrittenAt   *time.Time // last write, real time
	LookedAt    *time.Time // when the live state was last compared, real time
	State       PlacementState
	Pending     int
	Drifted     int
	Conflicting int
	OurSets     int // that differ, and that this service wrote itself before its database went back
	Foreign     int `gorm:"column:foreign_sets"`
	Trouble     string
	Caps        *string // JSON
	Told        string  // nameservers that the zone's apex NS set names there in place of the provider's own, JSON; empty for none
	Lowered     string  // TTLs that are lowered there while the domain moves, JSON; empty for none
}

// RemovePlacement forgets a placement and all that is known of it.
func (t *Tx) RemovePlacement(id uint64) error {
	return t.db.Exec("DELETE FROM placements WHERE id = ?", id).Error
}

// TableName is the table that placements are kept in.
func (Placement) TableName() string { return "placements" }

// Names returns the nameservers that the provider gave the zone.
func (p Placement) Names() []dnsname.Name { return namesFrom(p.Nameservers) }

// ToldSet returns the nameservers that the zone's apex NS set names there, in place of the provider's own; none where it names those.
func (p Placement) ToldSet() []dnsname.Name { return namesFrom(p.Told) }

// Tell has the apex NS set of a zone at a provider name other nameservers, with the next sync.
func (t *Tx) Tell(placementID uint64, nameservers []dnsname.Name) error {
	return t.db.Model(&Placement{}).Where("id = ?", placementID).Updates(map[string]any{"told": jsonText(nameservers), "state": Pending}).Error
}

// LoweredTTLs are the TTLs that are other ones at a placement than the zone says, while its domain moves, in seconds; 0 for none.
type LoweredTTLs struct {
	NS       uint32 `json:"ns,omitempty"`       // of the apex NS set
	Negative uint32 `json:"negative,omitempty"` // MINIMUM of the SOA record
	Was      uint32 `json:"was,omitempty"`      // what that was before
	Restored bool   `json:"restored,omitempty"` // it is that again
}

// LoweredTTLs returns the TTLs that are lowered there.
func (p Placement) LoweredTTLs() (l LoweredTTLs) {
	_ = json.Unmarshal([]byte(p.Lowered), &l) // written by Lower; empty for none
	return l
}

// Lower keeps which TTLs are lowered at a placement, from the next sync on.
func (t *Tx) Lower(placementID uint64, l LoweredTTLs) error {
	return t.db.Model(&Placement{}).Where("id = ?", placementID).Updates(map[string]any{"lowered": jsonText(l), "state": Pending}).Error
}

// Unlower forgets what was lowered at the placements of a zone: what is there now stays.
func (t *Tx) Unlower(zoneID uint64) error {
	return t.db.Exec("UPDATE placements SET lowered = '' WHERE zone_id = ?", zoneID).Error
}

func namesFrom(text string) (names []dnsname.Name) {
	if text == "" || text == "null" || text == "[]" {
		return nil
	}
	_ = json.Unmarshal([]byte(text), &names) // written by jsonText below
	return names
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

// Placements returns a zone's placements in the order in which they were made.
func (t *Tx) Placements(zoneID uint64) (list []Placement, err error) {
	err = t.db.Where("zone_id = ?", zoneID).Order("id").Find(&list).Error
	return list, err
}

// PlacementsIn returns the placements of some zones, by zone.
func (t *Tx) PlacementsIn(zones []uint64) (map[uint64][]Placement, error) {
	byZone := map[uint64][]Placement{}
	if len(zones) == 0 {
		return byZone, nil
	}
	var list []Placement
	err := t.db.Where("zone_id IN ?", zones).Order("id").Find(&list).Error
	for _, p := range list {
		byZone[p.ZoneID] = append(byZone[p.ZoneID], p)
	}
	return byZone, err
}

// PlacementByID finds a placement.
func (t *Tx) PlacementByID(id uint64) (p Placement, err error) {
	err = t.db.Where("id = ?", id).Take(&p).Error
	return p, found(err, "placement %d", id)
}

// LockPlacement returns a placement and keeps others from it until the transaction ends.
func (t *Tx) LockPlacement(id uint64) (p Placement, err error) {
	err = t.locking().Where("id = ?", id).Take(&p).Error
	return p, found(err, "placement %d", id)
}

// LockPlacements locks several as LockPlacement does, always in the same order.
func (t *Tx) LockPlacements(list []Placement) error {
	ids := make([]uint64, len(list))
	for i, p := range list {
		ids[i] = p.ID
	}
	if len(ids) == 0 {
		return nil
	}
	return t.db.Exec("SELECT id FROM placements WHERE id IN ? ORDER BY id FOR UPDATE", ids).Error
}

// SetRemote keeps how the provider names the zone, and the nameservers it gave.
func (t *Tx) SetRemote(placementID uint64, remoteID string, nameservers []dnsname.Name) error {
	return t.db.Model(&Placement{}).Where("id = ?", placementID).
		Updates(map[string]any{"remote_id": remoteID, "nameservers": jsonText(nameservers)}).Error
}
