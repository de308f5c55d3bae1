package store

import (
	"time"

	"beacon/core/dnsname"
)

// Published is a zone that secondaries fetch from us.
type Published struct {
	ID        uint64
	AccountID uint64
	NameKey   string
	Serial    uint32
	CreatedAt time.Time
}

// TableName is the table that published zones are kept in.
func (Published) TableName() string { return "published" }

// Name is the zone's apex.
func (p Published) Name() dnsname.Name { return dnsname.FromKey(p.NameKey) }

// PublishedVersion is what a published zone held under one serial.
type PublishedVersion struct {
	ID          uint64
	PublishedID uint64
	Serial      uint32
	Contents    string // records, a line each
	CreatedAt   time.Time
}

// TableName is the table that versions are kept in.
func (PublishedVersion) TableName() string { return "published_versions" }

// versionsKept is how many versions of a published zone are kept for transfers of differences.
const versionsKept = 30

// PublishedZones returns the zones that are published for an account, by name.
func (t *Tx) PublishedZones(account uint64) (list []Published, err error) {
	err = t.db.Where("account_id = ?", account).Order("name_key").Find(&list).Error
	return list, err
}

// PublishedZone finds a published zone by its name.
func (t *Tx) PublishedZone(name dnsname.Name) (p Published, err error) {
	err = t.db.Where("name_key = ?", octets(name.Key())).Take(&p).Error
	return p, found(err, "published zone %s", name)
}

// LockPublished finds a published zone and keeps others from it until the transaction ends.
func (t *Tx) LockPublished(name dnsname.Name) (p Published, err error) {
	err = t.locking().Where("name_key = ?", octets(name.Key())).Take(&p).Error
	return p, found(err, "published zone %s", name)
}

// AddPublished publishes a zone for an account, empty under its first serial.
func (t *Tx) AddPublished(account uint64, name dnsname.Name, serial uint32) error {
	now := t.now()
	if err := t.db.Exec("INSERT INTO published (account_id, name_key, serial, created_at) VALUES (?, ?, ?, ?)", account, octets(name.Key()), serial, now).Error; err != nil {
		return found(err, "published zone %s", name)
	}
	return t.db.Exec("INSERT INTO published_versions (published_id, serial, contents, created_at) SELECT id, serial, '', ? FROM published WHERE name_key = ?", now, octets(name.Key())).Error
}

// Publish keeps a new version of a locked zone under a serial, and forgets the oldest.
func (t *Tx) Publish(id uint64, serial uint32, contents string) error {
	v := PublishedVersion{PublishedID: id, Serial: serial, Contents: contents, CreatedAt: t.now()}
	if err := t.db.Create(&v).Error; err != nil {
		return err
	}
	if err := t.db.Exec("UPDATE published SET serial = ? WHERE id = ?", serial, id).Error; err != nil {
		return err
	}
	return t.db.Exec("DELETE FROM published_versions WHERE published_id = ? AND id NOT IN (SELECT id FROM (SELECT id FROM published_versions WHERE published_id = ? ORDER BY id DESC LIMIT ?) newest)", id, id, versionsKept).Error
}

// Versions returns the versions of a published zone that are kept, oldest first.
func (t *Tx) Versions(id uint64) (list []PublishedVersion, err error) {
	err = t.db.Where("published_id = ?", id).Order("id").Find(&list).Error
	return list, err
}

// Version returns one version.
func (t *Tx) Version(id uint64, serial uint32) (v PublishedVersion, err error) {
	err = t.db.Where("published_id = ? AND serial = ?", id, serial).Take(&v).Error
	return v, found(err, "version %d", serial)
}

// RemovePublished ends the publishing of a zone.
func (t *Tx) RemovePublished(id uint64) error {
	return t.db.Exec("DELETE FROM published WHERE id = ?", id).Error
}
