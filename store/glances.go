package store

import (
	"strings"
	"time"

	"beacon/core/delegation"
	"beacon/core/dnsname"
)

// JobGlance is the work of looking briefly at all domains; there is one such job.
const JobGlance = "glance"

// Glance is what a brief look at a domain came to.
type Glance struct {
	DomainID uint64
	At       time.Time // wall time
	Verdict  delegation.Verdict
	Gravest  string   // code of the gravest error or warning; empty for none
	Seen     [16]byte // print of how the domain stood
}

// Glanced is a domain that is to be looked at, with the last brief look where there was one.
type Glanced struct {
	DomainID uint64
	NameKey  string
	Wanted   string
	Seen     []byte // nil: there was none
}

// Name is the domain's name.
func (g Glanced) Name() dnsname.Name { return dnsname.FromKey(g.NameKey) }

// Known tells whether a look succeeded before.
func (g Glanced) Known() bool {
	return len(g.Seen) > 0 && string(g.Seen) != string(make([]byte, len(g.Seen)))
}

// WantedSet gives the nameservers that the domain shall be delegated to.
func (g Glanced) WantedSet() []dnsname.Name { return namesFrom(g.Wanted) }

// ToGlanceAt gives domains that were not looked at briefly since a wall time, those longest ago first.
func (t *Tx) ToGlanceAt(before time.Time, limit int) (list []Glanced, err error) {
	err = t.db.Raw(`SELECT d.id AS domain_id, z.name_key, d.wanted, g.seen FROM domains d JOIN zones z ON z.id = d.zone_id
		LEFT JOIN glances g ON g.domain_id = d.id WHERE g.at IS NULL OR g.at < ? ORDER BY g.at, d.id LIMIT ?`, before, limit).Scan(&list).Error
	return list, err
}

// PutGlances keeps brief looks in place of those before.
func (t *Tx) PutGlances(list []Glance) error {
	if len(list) == 0 {
		return nil
	}
	args := make([]any, 0, 5*len(list))
	for _, g := range list {
		args = append(args, g.DomainID, g.At, g.Verdict, g.Gravest, g.Seen[:])
	}
	return t.db.Exec(`INSERT INTO glances (domain_id, at, verdict, gravest, seen) VALUES `+strings.Repeat("(?, ?, ?, ?, ?), ", len(list)-1)+
		`(?, ?, ?, ?, ?) ON DUPLICATE KEY UPDATE at = VALUES(at), verdict = VALUES(verdict), gravest = VALUES(gravest), seen = VALUES(seen)`, args...).Error
}

// ForgetGlances has all domains looked at anew.
func (t *Tx) ForgetGlances() error {
	return t.db.Exec("UPDATE glances SET at = '1971-01-01 00:00:00'").Error
}

// GlancesSince counts the domains that were looked at briefly since a wall time, by what that came to; domains is how many there are.
// Once all of them were, it also gives those that are not settled.
func (t *Tx) GlancesSince(since time.Time) (counts map[delegation.Verdict]int, open []FleetRow, domains int64, err error) {
	var rows []struct {
		Verdict delegation.Verdict
		N       int
	}
	if err = t.db.Raw("SELECT verdict, COUNT(*) AS n FROM glances WHERE at >= ? GROUP BY verdict", since).Scan(&rows).Error; err != nil {
		return nil, nil, 0, err
	}
	counts = map[delegation.Verdict]int{}
	looked := int64(0)
	for _, r := range rows {
		counts[r.Verdict] = r.N
		looked += int64(r.N)
	}
	if err = t.db.Model(&Domain{}).Count(&domains).Error; err != nil || looked < domains {
		return counts, nil, domains, err
	}
	err = t.db.Raw(`SELECT z.name_key AS name, g.verdict, g.gravest, g.at AS checked_at FROM glances g JOIN domains d ON d.id = g.domain_id JOIN zones z ON z.id = d.zone_id
		WHERE g.at >= ? AND g.verdict <> ? ORDER BY z.name_key`, since, delegation.Settled).Scan(&open).Error
	return counts, open, domains, err
}
