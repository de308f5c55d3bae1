package store

import (
	"encoding/json"
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
	AskedAt    *time.Time   // world time
	AnsweredAt *time.Time   // of the last good answer, world time
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

// Aliases gives what is known of a zone's ALIAS targets.
func (t *Tx) Aliases(zoneID uint64) ([]Alias, error) {
	var rows []aliasRow
	if err := t.db.Raw("SELECT name_key, target, ttl, answers, problem, differs, asked_at, answered_at FROM aliases WHERE zone_id = ? ORDER BY name_key", zoneID).Scan(&rows).Error; err != nil {
		return nil, err
	}
	list := make([]Alias, len(rows))
	for i, row := range rows {
		target, err := dnsname.Parse(row.Target)
		if err != nil {
			return nil, err
		}
		list[i] = Alias{Name: dnsname.FromKey(row.NameKey), Target: target, TTL: row.TTL, Problem: row.Problem, Differs: row.Differs, AskedAt: row.AskedAt, AnsweredAt: row.AnsweredAt}
		if err := json.Unmarshal([]byte(row.Answers), &list[i].Answers); err != nil {
			return nil, err
		}
	}
	return list, nil
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
