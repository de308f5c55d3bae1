package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"beacon/core/delegation"
	"beacon/core/dnsname"
)

// JobGlance is the work of looking briefly at all domains; there is one such job.
const JobGlance = "glance"

// Glance is what the last brief look at a domain came to.
type Glance struct {
	DomainID uint64
	Verdict  delegation.Verdict
	Gravest  string   // code of the gravest error or warning; empty for none
	Seen     [16]byte // print of how the domain stood
}

// Glanced is a domain that is to be looked at, with what the last brief look came to where there was one.
type Glanced struct {
	DomainID uint64
	NameKey  string
	Wanted   string
	Verdict  delegation.Verdict
	Gravest  string
	Seen     []byte // nil: there was none
}

// Name is the domain's name.
func (g Glanced) Name() dnsname.Name { return dnsname.FromKey(g.NameKey) }

// Known tells whether a look succeeded before.
func (g Glanced) Known() bool {
	return len(g.Seen) > 0 && string(g.Seen) != string(make([]byte, len(g.Seen)))
}

// Is tells whether a look came to what the one before had come to, so that there is nothing to write.
func (g Glanced) Is(now Glance) bool {
	return g.Verdict == now.Verdict && g.Gravest == now.Gravest && string(g.Seen) == string(now.Seen[:])
}

// WantedSet gives the nameservers that the domain shall be delegated to.
func (g Glanced) WantedSet() []dnsname.Name { return namesFrom(g.Wanted) }

// GlanceRun is one brief look at all domains, in the order of their ids. Times are wall times.
type GlanceRun struct {
	ID       uint64
	Began    time.Time
	Ended    *time.Time                 // nil: it goes on
	Domains  int                        // that there were when it began; that were looked at, once it has ended
	Reached  uint64                     // the domains up to this id were looked at
	Looked   int                        // how many those are
	Verdicts map[delegation.Verdict]int `gorm:"-"` // of those
	Text     string                     `gorm:"column:verdicts"`
}

// BeginGlances begins a run in place of the one before, ended or not.
func (t *Tx) BeginGlances() (run GlanceRun, err error) {
	if err = t.db.Exec("DELETE FROM glance_runs").Error; err != nil {
		return run, err
	}
	err = t.db.Exec("INSERT INTO glance_runs (began, domains, reached, looked, verdicts) SELECT ?, COUNT(*), 0, 0, '{}' FROM domains", t.now()).Error
	if err != nil {
		return run, err
	}
	run, _, err = t.GlanceRun()
	return run, err
}

// GlanceRun gives the last run, if there was any.
func (t *Tx) GlanceRun() (run GlanceRun, ok bool, err error) {
	err = t.db.Table("glance_runs").Order("id DESC").Limit(1).Take(&run).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return run, false, nil
	}
	if err != nil {
		return run, false, err
	}
	return run, true, json.Unmarshal([]byte(run.Text), &run.Verdicts)
}

// ToGlanceAt gives the domains above an id, in order, that a run has still to look at.
func (t *Tx) ToGlanceAt(after uint64, limit int) (list []Glanced, err error) {
	rows, err := t.db.Raw(`SELECT d.id, z.name_key, d.wanted, COALESCE(g.verdict, ''), COALESCE(g.gravest, ''), g.seen
		FROM domains d JOIN zones z ON z.id = d.zone_id LEFT JOIN glances g ON g.domain_id = d.id
		WHERE d.id > ? ORDER BY d.id LIMIT ?`, after, limit).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() { // by hand, for there are very many
		var g Glanced
		if err := rows.Scan(&g.DomainID, &g.NameKey, &g.Wanted, &g.Verdict, &g.Gravest, &g.Seen); err != nil {
			return nil, err
		}
		list = append(list, g)
	}
	return list, rows.Err()
}

// KeepGlances keeps how far a run is, and the looks that came to something else than those before. Where another run has begun meanwhile,
// it gives ErrNotFound.
func (t *Tx) KeepGlances(run GlanceRun, otherwise []Glance) error {
	text, err := json.Marshal(run.Verdicts)
	if err != nil {
		return err
	}
	done := t.db.Exec("UPDATE glance_runs SET ended = ?, domains = ?, reached = ?, looked = ?, verdicts = ? WHERE id = ?",
		run.Ended, run.Domains, run.Reached, run.Looked, string(text), run.ID)
	switch {
	case done.Error != nil:
		return done.Error
	case done.RowsAffected == 0:
		return fmt.Errorf("run %d of brief looks: %w", run.ID, ErrNotFound)
	case len(otherwise) == 0:
		return nil
	}
	args := make([]any, 0, 4*len(otherwise))
	for _, g := range otherwise {
		args = append(args, g.DomainID, g.Verdict, g.Gravest, g.Seen[:])
	}
	return t.db.Exec(`INSERT INTO glances (domain_id, verdict, gravest, seen) VALUES `+strings.Repeat("(?, ?, ?, ?), ", len(otherwise)-1)+
		`(?, ?, ?, ?) ON DUPLICATE KEY UPDATE verdict = VALUES(verdict), gravest = VALUES(gravest), seen = VALUES(seen)`, args...).Error
}

// UnsettledAtGlance gives the domains that brief looks found otherwise than settled.
func (t *Tx) UnsettledAtGlance() (rows []FleetRow, err error) {
	err = t.db.Raw(`SELECT z.name_key AS name, g.verdict, g.gravest FROM glances g JOIN domains d ON d.id = g.domain_id JOIN zones z ON z.id = d.zone_id
		WHERE g.verdict <> ? ORDER BY z.name_key`, delegation.Settled).Scan(&rows).Error
	return rows, err
}
