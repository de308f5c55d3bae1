package store

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"sync"
	"time"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
)

// Domain is what is known about the delegation of a zone.
type Domain struct {
	ID        uint64
	ZoneID    uint64
	Wanted    string // JSON
	History   string // JSON
	Verdict   delegation.Verdict
	SettlesBy *time.Time
	CheckedAt *time.Time
}

// TableName is the table that domains are kept in.
func (Domain) TableName() string { return "domains" }

// WantedSet returns the nameservers that the domain shall be delegated to; empty where nothing is wanted yet.
func (d Domain) WantedSet() []dnsname.Name { return namesFrom(d.Wanted) }

// PastSweeps returns what earlier sweeps established.
func (d Domain) PastSweeps() (h delegation.History, err error) {
	err = json.Unmarshal([]byte(d.History), &h)
	return h, err
}

// EnsureDomain returns the domain of a zone, making it where it is missing.
func (t *Tx) EnsureDomain(zoneID uint64) (d Domain, err error) {
	err = t.db.Exec("INSERT IGNORE INTO domains (zone_id, name_key, wanted, history, verdict) SELECT id, name_key, '[]', '{}', '' FROM zones WHERE id = ?", zoneID).Error
	if err == nil {
		err = t.db.Where("zone_id = ?", zoneID).Take(&d).Error
	}
	return d, found(err, "domain")
}

// DomainByID finds a domain.
func (t *Tx) DomainByID(id uint64) (d Domain, err error) {
	err = t.db.Where("id = ?", id).Take(&d).Error
	return d, found(err, "domain %d", id)
}

// FleetRow is what a brief check of a domain needs.
type FleetRow struct {
	Name      string
	Verdict   delegation.Verdict
	SettlesBy *time.Time
	CheckedAt *time.Time
	Gravest   string
}

// DomainOf finds the domain of a zone; where there is none yet, it gives what a new one would be, with ID 0.
func (t *Tx) DomainOf(zoneID uint64) (d Domain, err error) {
	var list []Domain
	if err = t.db.Where("zone_id = ?", zoneID).Limit(1).Find(&list).Error; err != nil || len(list) == 0 {
		return Domain{ZoneID: zoneID, Wanted: "[]", History: "{}"}, err
	}
	return list[0], nil
}

// SetWanted returns which nameservers the domain shall be delegated to.
func (t *Tx) SetWanted(id uint64, wanted []dnsname.Name) error {
	return t.db.Exec("UPDATE domains SET wanted = ? WHERE id = ?", jsonText(wanted), id).Error
}

// LockHistory returns what is known of a domain and keeps others from it until the transaction ends.
func (t *Tx) LockHistory(id uint64) (d Domain, err error) {
	err = t.locking().Where("id = ?", id).Take(&d).Error
	return d, found(err, "domain %d", id)
}

// check is the checks of a domain in a row that came to the same, with report and evidence of the last of them.
type check struct {
	ID       uint64
	DomainID uint64
	FirstAt  *time.Time // simulated time; nil where it was not kept
	WorldAt  time.Time
	WallAt   time.Time
	Verdict  delegation.Verdict
	Report   []byte
	Evidence []byte
}

func (check) TableName() string { return "checks" }

// KeepChecks is how many changes of how a domain stands are kept, with the evidence for each.
const KeepChecks = 100

// AddCheck keeps a check and what it established. Where it came to the same as the last one, it takes that one's place. How long it
// took is real time.
func (t *Tx) AddCheck(domainID uint64, r delegation.Report, h delegation.History, s evidence.Sweep, took time.Duration, same bool) error {
	heard := s.Heard
	s.Heard = nil // kept of the newest check only
	row := check{DomainID: domainID, FirstAt: &r.CheckedAt, WorldAt: r.CheckedAt, WallAt: t.now(), Verdict: r.Verdict}
	var err error
	if row.Report, err = squeeze(r); err != nil {
		return err
	}
	if row.Evidence, err = squeeze(s); err != nil {
		return err
	}
	if err := t.putCheck(row, same); err != nil {
		return err
	}
	if heard != nil {
		packed, err := squeeze(heard)
		if err != nil {
			return err
		}
		if err := t.db.Exec("REPLACE INTO check_answers (domain_id, body) VALUES (?, ?)", domainID, packed).Error; err != nil {
			return err
		}
	}
	return t.db.Model(&Domain{}).Where("id = ?", domainID).Updates(map[string]any{"history": jsonText(h), "verdict": r.Verdict,
		"settles_by": r.SettlesBy, "checked_at": r.CheckedAt, "gravest": gravest(r), "check_ms": took.Milliseconds()}).Error
}

// SetDeadlines replaces what of a domain ends.
func (t *Tx) SetDeadlines(domainID uint64, list []delegation.Deadline) error {
	if err := t.db.Exec("DELETE FROM deadlines WHERE domain_id = ?", domainID).Error; err != nil {
		return err
	}
	for _, d := range list {
		err := t.db.Exec("INSERT INTO deadlines (domain_id, code, subject, ends_at) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE ends_at = LEAST(ends_at, VALUES(ends_at))",
			domainID, d.Code, cut(d.Subject, 260), d.By).Error
		if err != nil {
			return err
		}
	}
	return nil
}

func (t *Tx) putCheck(row check, same bool) error {
	var last []check
	if err := t.db.Select("id").Where("domain_id = ?", row.DomainID).Order("id DESC").Limit(1).Find(&last).Error; err != nil {
		return err
	}
	if same && len(last) > 0 {
		return t.db.Model(&check{}).Where("id = ?", last[0].ID).Updates(map[string]any{"world_at": row.WorldAt, "wall_at": row.WallAt,
			"report": row.Report, "evidence": row.Evidence}).Error
	}
	if err := t.db.Create(&row).Error; err != nil {
		return err
	}
	return t.db.Exec(`DELETE FROM checks WHERE domain_id = ? AND id <= (SELECT id FROM
		(SELECT id FROM checks WHERE domain_id = ? ORDER BY id DESC LIMIT 1 OFFSET ?) AS beyond)`, row.DomainID, row.DomainID, KeepChecks).Error
}

// gravest returns the code of the gravest error or warning of a report; findings come in that order.
func gravest(r delegation.Report) string {
	if len(r.Findings) > 0 && r.Findings[0].Severity >= finding.Warning {
		return r.Findings[0].Code
	}
	return ""
}

// squeezers are compressors to use again: a new one costs more than what it compresses here.
var squeezers = sync.Pool{New: func() any {
	w, err := gzip.NewWriterLevel(nil, gzip.BestSpeed)
	if err != nil {
		panic(err) // the level is ours
	}
	return w
}}

// squeeze writes a value as JSON, compressed.
func squeeze(value any) ([]byte, error) {
	var b bytes.Buffer
	w := squeezers.Get().(*gzip.Writer)
	defer squeezers.Put(w)
	w.Reset(&b)
	if err := json.NewEncoder(w).Encode(value); err != nil {
		return nil, err
	}
	err := w.Close()
	return b.Bytes(), err
}

// unsqueeze reads what squeeze wrote, and JSON that is not compressed, as it was once kept.
func unsqueeze(body []byte, value any) error {
	if len(body) > 0 && body[0] == '{' {
		return json.Unmarshal(body, value)
	}
	r, err := gzip.NewReader(bytes.NewReader(body))
	if err != nil {
		return err
	}
	return json.NewDecoder(r).Decode(value)
}

// Answers returns raw responses of a domain's newest check.
func (t *Tx) Answers(domainID uint64) (list []evidence.Heard, err error) {
	var bodies [][]byte
	if err = t.db.Raw("SELECT body FROM check_answers WHERE domain_id = ?", domainID).Scan(&bodies).Error; err != nil || len(bodies) == 0 {
		return nil, err
	}
	err = unsqueeze(bodies[0], &list)
	return list, err
}

// CountChecks returns how many changes of how a domain stands are kept.
func (t *Tx) CountChecks(domainID uint64) (n int64, err error) {
	err = t.db.Model(&check{}).Where("domain_id = ?", domainID).Count(&n).Error
	return n, err
}

// LastReport returns the report of the newest check of a domain; false where there is none.
func (t *Tx) LastReport(domainID uint64) (r delegation.Report, ok bool, err error) {
	r, _, ok, err = t.LastReportSince(domainID)
	return r, ok, err
}

// LastReportSince also tells since when, in simulated time, all checks came to what the newest came to.
func (t *Tx) LastReportSince(domainID uint64) (r delegation.Report, since time.Time, ok bool, err error) {
	var rows []check
	err = t.db.Select("report", "first_at", "world_at").Where("domain_id = ?", domainID).Order("id DESC").Limit(1).Find(&rows).Error
	if err != nil || len(rows) == 0 {
		return r, since, false, err
	}
	since = rows[0].WorldAt
	if rows[0].FirstAt != nil {
		since = *rows[0].FirstAt
	}
	return r, since, true, unsqueeze(rows[0].Report, &r)
}

// DomainsDelegatedBelow returns other domains whose desired nameservers have names at or below one, in order of their names.
func (t *Tx) DomainsDelegatedBelow(name dnsname.Name, most int) (list []dnsname.Name, err error) {
	var keys []string
	like := likely.Replace(name.String())
	err = t.db.Raw("SELECT name_key FROM domains WHERE (wanted LIKE ? OR wanted LIKE ?) AND name_key <> ? ORDER BY name_key LIMIT ?", "%\""+like+"\"%", "%."+like+"\"%", octets(name.Key()), most).Scan(&keys).Error
	for _, key := range keys {
		list = append(list, dnsname.FromKey(key))
	}
	return list, err
}
