package store

import (
	"database/sql"
	"encoding/json"
	"slices"
	"time"

	"beacon/core/delegation"
)

// BlockedRow is a placement whose last sync was blocked or failed.
type BlockedRow struct {
	NameKey    string
	Account    string
	SyncID     uint64
	State      SyncState
	Message    string
	FinishedAt *time.Time
}

// BlockedSyncs returns at most limit placements whose last sync of the whole zone was blocked or failed, the newest first.
func (t *Tx) BlockedSyncs(limit int) (list []BlockedRow, err error) {
	in, args := t.inZones("z.name_key")
	err = t.db.Raw(`SELECT z.name_key, a.name AS account, s.id AS sync_id, s.state, s.message, s.finished_at
		FROM syncs s JOIN placements p ON p.id = s.placement_id JOIN zones z ON z.id = p.zone_id JOIN accounts a ON a.id = p.account_id
		WHERE s.state IN ('blocked', 'failed') AND s.scope = ''
			AND s.id = (SELECT MAX(n.id) FROM syncs n WHERE n.placement_id = s.placement_id AND n.scope = '')
			AND `+in+` ORDER BY s.id DESC LIMIT ?`, append(args, limit)...).Scan(&list).Error
	return list, err
}

// RunningSyncs returns at most limit syncs that have not ended, the oldest first.
func (t *Tx) RunningSyncs(limit int) (list []BlockedRow, err error) {
	in, args := t.inZones("z.name_key")
	err = t.db.Raw(`SELECT z.name_key, a.name AS account, s.id AS sync_id, s.state, s.trouble AS message
		FROM syncs s JOIN placements p ON p.id = s.placement_id JOIN zones z ON z.id = p.zone_id JOIN accounts a ON a.id = p.account_id
		WHERE s.state IN ('pending', 'running', 'retrying') AND `+in+` ORDER BY s.id LIMIT ?`, append(args, limit)...).Scan(&list).Error
	return list, err
}

// DriftRow is a placement that differs from what was placed there, or that cannot be compared.
type DriftRow struct {
	NameKey     string
	Account     string
	State       PlacementState
	Drifted     int
	Conflicting int
	Trouble     string
	LookedAt    *time.Time
}

// TroubledPlacements returns at most limit placements that drifted or cannot be compared.
func (t *Tx) TroubledPlacements(limit int) (list []DriftRow, err error) {
	in, args := t.inZones("z.name_key")
	err = t.db.Raw(`SELECT z.name_key, a.name AS account, p.state, p.drifted, p.conflicting, p.trouble, p.looked_at
		FROM placements p JOIN zones z ON z.id = p.zone_id JOIN accounts a ON a.id = p.account_id
		WHERE p.state IN (?, ?, ?) AND `+in+` ORDER BY z.name_key, a.name LIMIT ?`, slices.Concat([]any{Drifted, Unreachable, Unconfirmed}, args, []any{limit})...).Scan(&list).Error
	return list, err
}

// DraftRow is a zone with edits that were not accepted.
type DraftRow struct {
	NameKey string
	Edits   int
}

// OpenDrafts returns at most limit zones that have a draft.
func (t *Tx) OpenDrafts(limit int) (list []DraftRow, err error) {
	in, args := t.inZones("z.name_key")
	err = t.db.Raw(`SELECT z.name_key, COUNT(*) AS edits FROM draft_edits e JOIN zones z ON z.id = e.zone_id WHERE `+in+` GROUP BY z.id ORDER BY z.name_key LIMIT ?`, append(args, limit)...).Scan(&list).Error
	return list, err
}

// SettlingRow is a domain that settles.
type SettlingRow struct {
	NameKey   string
	SettlesBy *time.Time // simulated time
}

// Settling returns at most limit domains that settle, those that are settled first first.
func (t *Tx) Settling(limit int) (list []SettlingRow, err error) {
	in, args := t.inZones("name_key")
	err = t.db.Raw(`SELECT name_key, settles_by FROM domains WHERE verdict = ? AND `+in+` ORDER BY settles_by IS NULL, settles_by, name_key LIMIT ?`, slices.Concat([]any{delegation.Settling}, args, []any{limit})...).Scan(&list).Error
	return list, err
}

// DeadlineRow is something of a domain that ends.
type DeadlineRow struct {
	NameKey string
	Code    string
	Subject string
	EndsAt  time.Time // simulated time
}

// Deadlines returns at most limit things that end, the next first.
func (t *Tx) Deadlines(limit int) (list []DeadlineRow, err error) {
	in, args := t.inZones("d.name_key")
	err = t.db.Raw(`SELECT d.name_key, e.code, e.subject, e.ends_at FROM deadlines e JOIN domains d ON d.id = e.domain_id WHERE `+in+` ORDER BY e.ends_at, d.name_key LIMIT ?`, append(args, limit)...).Scan(&list).Error
	return list, err
}

// Sample is what was measured at a moment.
type Sample struct {
	At        time.Time // real time
	Domains   string    // JSON: how many in each state
	Revisions int
	Syncs     int
	SyncMS    *int64 `gorm:"column:sync_ms"`
	CheckMS   *int64 `gorm:"column:check_ms"`
}

// ByState returns how many domains were in each state.
func (s Sample) ByState() (counts map[delegation.Verdict]int, err error) {
	err = json.Unmarshal([]byte(s.Domains), &counts)
	return counts, err
}

// Samples returns what was measured since a moment, in order.
func (t *Tx) Samples(since time.Time) (list []Sample, err error) {
	err = t.db.Raw("SELECT * FROM samples WHERE at >= ? ORDER BY at", since).Scan(&list).Error
	return list, err
}

// AddSample measures what there is now and what was done since the sample before, and forgets samples from before old.
func (t *Tx) AddSample(old time.Time) error {
	rows, total, err := t.DomainCounts()
	if err != nil {
		return err
	}
	counts := map[delegation.Verdict]int{}
	for _, r := range rows {
		if r.Verdict != "" {
			counts[r.Verdict] += r.Domains
			total -= r.Domains
		}
	}
	if total > 0 {
		counts[""] = total
	}
	now := t.now()
	var last sql.NullTime
	if err := t.db.Raw("SELECT MAX(at) FROM samples WHERE at < ?", now).Scan(&last).Error; err != nil {
		return err
	}
	since := now.Add(-time.Hour)
	if last.Valid {
		since = last.Time
	}
	done, err := t.ChangesSince(since)
	if err != nil {
		return err
	}
	var times struct{ Sync, Check sql.NullFloat64 }
	err = t.db.Raw(`SELECT (SELECT MEDIAN(TIMESTAMPDIFF(MICROSECOND, created_at, finished_at)) OVER () FROM syncs WHERE state = 'done' AND finished_at > ? AND finished_at <= ? LIMIT 1) AS sync,
		(SELECT AVG(check_ms) FROM domains) AS `+"`check`", since, now).Scan(&times).Error
	if err != nil {
		return err
	}
	err = t.db.Exec("INSERT INTO samples (at, domains, revisions, syncs, sync_ms, check_ms) VALUES (?, ?, ?, ?, ?, ?) ON DUPLICATE KEY UPDATE domains = VALUES(domains)",
		now, jsonText(counts), done.Revisions, done.Syncs, rounded(times.Sync, 1000), rounded(times.Check, 1)).Error
	if err == nil {
		err = t.db.Exec("DELETE FROM samples WHERE at < ?", old).Error
	}
	return err
}

func rounded(v sql.NullFloat64, unit float64) *int64 {
	if !v.Valid {
		return nil
	}
	n := int64(v.Float64/unit + 0.5)
	return &n
}

// Done is how much was done in a time.
type Done struct {
	Revisions   int // accepted
	Syncs       int // that ended well
	Troubled    int // that were blocked or failed
	Delegations int // nameserver lists that were changed
}

// ChangesSince counts what was done since a moment, real time.
func (t *Tx) ChangesSince(since time.Time) (d Done, err error) {
	in, args := t.inZones("z.name_key")
	about, names := t.aboutZones("subject")
	ended := "FROM syncs s JOIN placements p ON p.id = s.placement_id JOIN zones z ON z.id = p.zone_id WHERE s.finished_at > ? AND " + in
	then := append([]any{since}, args...)
	err = t.db.Raw(`SELECT (SELECT COUNT(*) FROM revisions r JOIN zones z ON z.id = r.zone_id WHERE r.created_at > ? AND `+in+`) AS revisions,
		(SELECT COUNT(*) `+ended+` AND s.state = 'done') AS syncs,
		(SELECT COUNT(*) `+ended+` AND s.state IN ('blocked', 'failed')) AS troubled,
		(SELECT COUNT(*) FROM acts WHERE finished_at > ? AND kind = 'delegate' AND state = 'done' AND `+about+`) AS delegations`,
		slices.Concat(then, then, then, []any{since}, names)...).Scan(&d).Error
	return d, err
}

// RunningDelegations returns at most limit delegations that have not ended, the oldest first.
func (t *Tx) RunningDelegations(limit int) (list []Act, err error) {
	about, args := t.aboutZones("subject")
	err = t.db.Raw("SELECT * FROM acts WHERE state IN ('pending', 'running', 'retrying') AND kind = 'delegate' AND parent_id IS NULL AND "+about+" ORDER BY id LIMIT ?", append(args, limit)...).Scan(&list).Error
	return list, err
}
