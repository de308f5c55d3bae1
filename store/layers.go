package store

import (
	"encoding/json"

	"beacon/core/dnsname"
)

// HostsOf returns the hosts of a zone.
func (t *Tx) HostsOf(zoneID uint64) (list []Host, err error) {
	err = t.db.Where("zone_id = ?", zoneID).Order("name_key").Find(&list).Error
	return list, err
}

// Aliases returns what is known of a zone's ALIAS targets.
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
