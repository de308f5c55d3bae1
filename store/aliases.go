package store

import (
	"net/netip"
	"time"

	"beacon/core/dnsname"
)

// JobAlias is the work of asking for the addresses of a zone's ALIAS targets.
const JobAlias = "alias"

// Alias is what is known of the target of an ALIAS that lies outside its zone.
type Alias struct {
	Name       dnsname.Name
	Target     dnsname.Name
	TTL        uint32       // of the answers, seconds
	Answers    []netip.Addr // of the last good answer
	Problem    string       // why the last question failed; empty where it did not
	Differs    string       // how the servers of the target disagree; empty where they do not
	AskedAt    *time.Time   // simulated time
	AnsweredAt *time.Time   // of the last good answer, simulated time
}

type aliasRow struct {
	NameKey    string
	Target     string
	TTL        uint32 `gorm:"column:ttl"`
	Answers    string
	Problem    string
	Differs    string
	AskedAt    *time.Time
	AnsweredAt *time.Time
}

// SetAlias keeps what is known of an ALIAS's target.
func (t *Tx) SetAlias(zoneID uint64, a Alias) error {
	return t.db.Exec("REPLACE INTO aliases (zone_id, name_key, target, ttl, answers, problem, differs, asked_at, answered_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
		zoneID, octets(a.Name.Key()), a.Target.String(), a.TTL, jsonText(a.Answers), cut(a.Problem, 500), cut(a.Differs, 500), a.AskedAt, a.AnsweredAt).Error
}

// ForgetAlias forgets a name that is no ALIAS any more.
func (t *Tx) ForgetAlias(zoneID uint64, name dnsname.Name) error {
	return t.db.Exec("DELETE FROM aliases WHERE zone_id = ? AND name_key = ?", zoneID, octets(name.Key())).Error
}
