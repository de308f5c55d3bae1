package store

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"beacon/core/delegation"
	"beacon/core/dnsname"
)

// JobBrief is the work of looking briefly at all domains; there is one such job.
const JobBrief = "brief"

// BriefCheck is what a brief look at a domain came to.
type BriefCheck struct {
	DomainID uint64
	Verdict  delegation.Verdict
	Gravest  string   // code of the gravest error or warning; empty for none
	Seen     [16]byte // print of how the domain stood; zero where no look has succeeded yet
}

// BriefDomain is a domain that is to be looked at, with what the last brief look came to.
type BriefDomain struct {
	DomainID uint64
	NameKey  string
	Wanted   string
	Before   BriefCheck // zero: there was none
}

// Name is the domain's name.
func (g BriefDomain) Name() dnsname.Name { return dnsname.FromKey(g.NameKey) }

// Known reports whether a look succeeded before.
func (g BriefDomain) Known() bool { return g.Before.Seen != [16]byte{} }

// WantedSet returns the nameservers that the domain shall be delegated to.
func (g BriefDomain) WantedSet() []dnsname.Name { return namesFrom(g.Wanted) }

// BriefRun is one brief look at all domains, in the order of their ids. Times are wall times.
type BriefRun struct {
	ID       uint64
	Began    time.Time
	World    *time.Time                 `gorm:"column:world_began"` // simulated time then
	Ended    *time.Time                 // nil: it goes on
	Domains  int                        // that there were when it began; that were looked at, once it has ended
	Reached  uint64                     // the domains up to this id were looked at
	Looked   int                        // how many those are
	Verdicts map[delegation.Verdict]int `gorm:"-"` // of those
	Text     string                     `gorm:"column:verdicts"`
}

// BeginBriefChecks begins a run in place of the one before, ended or not, at a simulated time.
func (t *Tx) BeginBriefChecks(world time.Time) (run BriefRun, err error) {
	if err = t.db.Exec("DELETE FROM brief_runs").Error; err != nil {
		return run, err
	}
	err = t.db.Exec("INSERT INTO brief_runs (began, world_began, domains, reached, looked, verdicts) SELECT ?, ?, COUNT(*), 0, 0, '{}' FROM domains", t.now(), world).Error
	if err != nil {
		return run, err
	}
	run, _, err = t.BriefRun()
	return run, err
}

// BriefRun returns the last run, if there was any.
func (t *Tx) BriefRun() (run BriefRun, ok bool, err error) {
	err = t.db.Table("brief_runs").Order("id DESC").Limit(1).Take(&run).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return run, false, nil
	}
	if err != nil {
		return run, false, err
	}
	return run, true, json.Unmarshal([]byte(run.Text), &run.Verdicts)
}

// ToCheckBriefly returns the domains above an id, in order, that a run has still to look at.
func (t *Tx) ToCheckBriefly(after uint64, limit int) (list []BriefDomain, err error) {
	rows, err := t.db.Raw("SELECT d.id, z.name_key, d.wanted FROM domains d JOIN zones z ON z.id = d.zone_id WHERE d.id > ? ORDER BY d.id LIMIT ?", after, limit).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var pages []uint64
	for rows.Next() { // by hand, for there are very many
		var g BriefDomain
		if err := rows.Scan(&g.DomainID, &g.NameKey, &g.Wanted); err != nil {
			return nil, err
		}
		list = append(list, g)
		if page := g.DomainID / briefPage; len(pages) == 0 || pages[len(pages)-1] != page {
			pages = append(pages, page)
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	before, err := t.briefChecksOn("page IN ?", pages)
	if err != nil {
		return nil, err
	}
	known := map[uint64]BriefCheck{}
	for _, page := range before {
		for _, g := range page {
			known[g.DomainID] = g
		}
	}
	for i := range list {
		list[i].Before = known[list[i].DomainID]
	}
	return list, nil
}

// KeepBriefChecks keeps how far a run is, and the looks that came to something else than those before. Where another run has begun meanwhile,
// it returns ErrNotFound.
func (t *Tx) KeepBriefChecks(run BriefRun, otherwise []BriefCheck) error {
	text, err := json.Marshal(run.Verdicts)
	if err != nil {
		return err
	}
	done := t.db.Exec("UPDATE brief_runs SET ended = ?, domains = ?, reached = ?, looked = ?, verdicts = ? WHERE id = ?",
		run.Ended, run.Domains, run.Reached, run.Looked, string(text), run.ID)
	switch {
	case done.Error != nil:
		return done.Error
	case done.RowsAffected == 0:
		return fmt.Errorf("run %d of brief looks: %w", run.ID, ErrNotFound)
	case len(otherwise) == 0:
		return nil
	}
	changed := map[uint64][]BriefCheck{}
	for _, g := range otherwise {
		changed[g.DomainID/briefPage] = append(changed[g.DomainID/briefPage], g)
	}
	pages := slices.Sorted(maps.Keys(changed))
	before, err := t.briefChecksOn("page IN ?", pages)
	if err != nil {
		return err
	}
	args := make([]any, 0, 3*len(pages))
	for _, page := range pages {
		all := onPage(before[page], changed[page])
		args = append(args, page, unsettledOf(all), pageText(all))
	}
	return t.db.Exec("INSERT INTO brief_pages (page, unsettled, looks) VALUES "+strings.Repeat("(?, ?, ?), ", len(pages)-1)+
		"(?, ?, ?) ON DUPLICATE KEY UPDATE unsettled = VALUES(unsettled), looks = VALUES(looks)", args...).Error
}

// UnsettledBriefly returns the domains that brief looks found otherwise than settled, by name.
func (t *Tx) UnsettledBriefly() (rows []FleetRow, err error) {
	pages, err := t.briefChecksOn("unsettled > ?", 0)
	if err != nil {
		return nil, err
	}
	for page, looks := range pages {
		var names []struct {
			ID      uint64
			NameKey string
		}
		err := t.db.Raw("SELECT d.id, z.name_key FROM domains d JOIN zones z ON z.id = d.zone_id WHERE d.id >= ? AND d.id < ?", page*briefPage, (page+1)*briefPage).Scan(&names).Error
		if err != nil {
			return nil, err
		}
		of := map[uint64]string{}
		for _, n := range names {
			of[n.ID] = n.NameKey
		}
		for _, g := range looks {
			if name, there := of[g.DomainID]; there && g.Verdict != delegation.Settled {
				rows = append(rows, FleetRow{Name: name, Verdict: g.Verdict, Gravest: g.Gravest})
			}
		}
	}
	slices.SortFunc(rows, func(a, b FleetRow) int { return cmp.Compare(a.Name, b.Name) })
	return rows, nil
}
