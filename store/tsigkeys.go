package store

import (
	"time"

	"beacon/core/dnsname"
)

// TSIGKey is a key that signs dynamic updates (RFC 8945), which are reports of an uplink.
type TSIGKey struct {
	ID           uint64
	Name         string // canonical, with final dot
	Algorithm    string
	Sealed       []byte
	UplinkID     uint64
	CreatedBy    string
	CreatedAt    time.Time
	FirstUsedAt  *time.Time
	LastUsedAt   *time.Time // to the minute
	LastUsedFrom string
}

// TableName is the table that keys are kept in.
func (TSIGKey) TableName() string { return "tsig_keys" }

// Bound is what the secret of a key is sealed for.
func (k TSIGKey) Bound() Bound { return Bound{Role: "tsig-key", Account: k.Name, Kind: k.Algorithm} }

// AddTSIGKey keeps a new key and sets its id.
func (t *Tx) AddTSIGKey(k *TSIGKey) error {
	k.CreatedAt, k.CreatedBy = t.now(), cut(k.CreatedBy, 100)
	return found(t.db.Create(k).Error, "TSIG key %s", k.Name)
}

// TSIGKey finds a key by its name.
func (t *Tx) TSIGKey(name string) (k TSIGKey, err error) {
	err = t.db.Where("name = ?", name).Take(&k).Error
	return k, found(err, "TSIG key %s", name)
}

// TSIGKeyRow is a key in a list, with whose it is.
type TSIGKeyRow struct {
	TSIGKey
	LocationID uint64
	Location   string // empty where it belongs to one host
	Uplink     string
	HostKey    string // that host
}

// Of returns whose key it is: the host, or LOCATION/UPLINK.
func (r TSIGKeyRow) Of() string {
	if r.Location == "" && r.HostKey == "" {
		return ""
	}
	if r.Location == "" {
		return dnsname.FromKey(r.HostKey).String()
	}
	return r.Location + "/" + r.Uplink
}

const tsigKeyRows = `SELECT k.*, u.location_id, COALESCE(l.name, '') AS location, u.name AS uplink,
	COALESCE((SELECT MIN(h.name_key) FROM hosts h WHERE h.location_id = l.id), '') AS host_key
	FROM tsig_keys k JOIN uplinks u ON u.id = k.uplink_id JOIN locations l ON l.id = u.location_id `

// TSIGKeysAfter returns at most limit keys behind a name, in the order of their names.
func (t *Tx) TSIGKeysAfter(after string, limit int) (list []TSIGKeyRow, err error) {
	err = t.db.Raw(tsigKeyRows+"WHERE k.name > ? ORDER BY k.name LIMIT ?", after, limit).Scan(&list).Error
	return list, err
}

// TSIGKeyRow finds a key with whose it is.
func (t *Tx) TSIGKeyRow(name string) (r TSIGKeyRow, err error) {
	if r.TSIGKey, err = t.TSIGKey(name); err != nil {
		return r, err
	}
	err = t.db.Raw(tsigKeyRows+"WHERE k.name = ?", name).Scan(&r).Error
	return r, err
}

// AllTSIGKeys returns all keys.
func (t *Tx) AllTSIGKeys() (list []TSIGKey, err error) {
	err = t.db.Order("id").Find(&list).Error
	return list, err
}

// ResealTSIGKey puts the same secret under another key.
func (t *Tx) ResealTSIGKey(id uint64, sealed []byte) error {
	return t.db.Exec("UPDATE tsig_keys SET sealed = ? WHERE id = ?", sealed, id).Error
}

// RemoveTSIGKey forgets a key.
func (t *Tx) RemoveTSIGKey(id uint64) error {
	return t.db.Exec("DELETE FROM tsig_keys WHERE id = ?", id).Error
}

// TSIGKeyUsed notes that a key was used from an address, to the minute.
func (t *Tx) TSIGKeyUsed(id uint64, from string) error {
	now := t.now()
	return t.db.Exec(`UPDATE tsig_keys SET first_used_at = COALESCE(first_used_at, ?), last_used_at = ?, last_used_from = ?
		WHERE id = ? AND (last_used_at IS NULL OR last_used_at < ? OR last_used_from <> ?)`, now, now, cut(from, 45), id, now.Add(-time.Minute), cut(from, 45)).Error
}
