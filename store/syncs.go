package store

import (
	"encoding/json"
	"fmt"
	"time"

	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/finding"
)

// SyncState is where a sync stands.
type SyncState string

// A sync waits, runs, and ends as done, held (a user has to decide something), failed, or cancelled by a user. While passing trouble is waited out it is retrying.
const (
	SyncPending  SyncState = "pending"
	SyncRunning  SyncState = "running"
	SyncRetrying SyncState = "retrying"
	SyncDone     SyncState = "done"
	SyncBlocked  SyncState = "blocked"
	SyncFailed   SyncState = "failed"

	SyncCancelled SyncState = "cancelled"
)

// Ended reports whether nothing more will happen to the sync.
func (s SyncState) Ended() bool {
	return s == SyncDone || s == SyncBlocked || s == SyncFailed || s == SyncCancelled
}

// Sync is one attempt to make a placement hold what a revision wants.
type Sync struct {
	ID           uint64
	PlacementID  uint64
	RevisionID   uint64
	State        SyncState
	Drift        diff.DriftPolicy
	Allowed      string // JSON
	Expected     string
	Total        int
	Added        int
	Changed      int
	Removed      int
	Requests     int
	Message      string
	Findings     string // JSON
	RequestedBy  string
	CreatedAt    time.Time
	FinishedAt   *time.Time
	VisibleMS    *int64 `gorm:"column:visible_ms"`
	Scope        SyncScope
	Trouble      string     // passing trouble that holds it up
	TroubleSince *time.Time // real time
	NextTryAt    *time.Time // real time
	MadeWayFor   uint64     // the sync of hosts that goes before this one's next turn; zero for none
}

// SyncScope is what of a zone a sync is about.
type SyncScope string

// A sync is about the whole zone, or about the names that follow an address: those go ahead of a whole zone's.
const (
	ScopeZone  SyncScope = ""
	ScopeHosts SyncScope = "hosts"
)

// The kinds of the jobs that run syncs.
const (
	JobSync   = "sync"
	JobUrgent = "urgent" // goes ahead of others: has workers of its own
	JobSee    = "see"    // asks for another one where nameservers did not serve it in time
)

// TableName is the table that syncs are kept in.
func (Sync) TableName() string { return "syncs" }

// Guards returns the codes of the guards that a user said yes to.
func (s Sync) Guards() (codes []string) {
	_ = json.Unmarshal([]byte(s.Allowed), &codes)
	return codes
}

// FindingList returns what was found.
func (s Sync) FindingList() (list []finding.Finding) {
	_ = json.Unmarshal([]byte(s.Findings), &list)
	return list
}

// AddSync keeps a new sync and the job that will run it.
func (t *Tx) AddSync(s *Sync, guards []string) error {
	s.State, s.Allowed, s.Findings, s.CreatedAt = SyncPending, jsonText(guards), "[]", t.now()
	if err := t.db.Create(s).Error; err != nil {
		return err
	}
	kind := JobSync
	if s.Scope == ScopeHosts {
		kind = JobUrgent
	}
	p, err := t.PlacementByID(s.PlacementID)
	if err != nil {
		return err
	}
	return t.EnqueueIn(kind, s.ID, p.AccountID, s.CreatedAt)
}

// SyncByID finds a sync.
func (t *Tx) SyncByID(id uint64) (s Sync, err error) {
	err = t.db.Where("id = ?", id).Take(&s).Error
	return s, found(err, "sync %d", id)
}

// UnfinishedSync finds a sync of the placement's whole zone that has not ended; zero id for none.
func (t *Tx) UnfinishedSync(placementID uint64) (s Sync, err error) {
	err = t.db.Where("placement_id = ? AND scope = '' AND state IN ('pending', 'running', 'retrying')", placementID).Limit(1).Find(&s).Error
	return s, err
}

// SyncUnderWay reports whether any sync of a placement has not ended, of the whole zone or of its layers.
func (t *Tx) SyncUnderWay(placementID uint64) (bool, error) {
	var n int64
	err := t.db.Model(&Sync{}).Where("placement_id = ? AND state IN ?", placementID, unfinished).Count(&n).Error
	return n > 0, err
}

// Syncs returns the syncs of a placement's whole zone, newest first.
func (t *Tx) Syncs(placementID uint64) (list []Sync, err error) {
	err = t.db.Where("placement_id = ? AND scope = ''", placementID).Order("id DESC").Limit(50).Find(&list).Error
	return list, err
}

// BeginSync marks a sync as running that has not ended, unless another one of its placement runs, or waits and was made way for: then it
// returns that one's number.
func (t *Tx) BeginSync(s Sync) (other uint64, err error) {
	if _, err := t.LockPlacement(s.PlacementID); err != nil {
		return 0, err
	}
	var first []uint64
	if err := t.db.Raw("SELECT id FROM syncs WHERE placement_id = ? AND id <> ? AND (state = ? OR state = ? AND id = ?) LIMIT 1",
		s.PlacementID, s.ID, SyncRunning, SyncPending, s.MadeWayFor).Scan(&first).Error; err != nil {
		return 0, err
	}
	if len(first) > 0 {
		return first[0], nil
	}
	res := t.db.Exec("UPDATE syncs SET state = ?, next_try_at = NULL WHERE id = ? AND state IN ?", SyncRunning, s.ID, unfinished)
	if res.Error == nil && res.RowsAffected == 0 {
		return 0, ErrLeaseLost
	}
	return 0, res.Error
}

// unfinished are the states of syncs that have not ended.
var unfinished = []SyncState{SyncPending, SyncRunning, SyncRetrying}

// RetrySync records that passing trouble holds a sync up, and until when it waits.
func (t *Tx) RetrySync(id uint64, trouble string, next time.Time) error {
	return t.db.Exec("UPDATE syncs SET state = ?, trouble = ?, trouble_since = COALESCE(trouble_since, ?), next_try_at = ? WHERE id = ? AND state IN ?",
		SyncRetrying, cut(trouble, 1000), t.now(), next, id, unfinished).Error
}

// HostsWaiting returns the sync of the placement's hosts that waits for its turn; zero for none.
func (t *Tx) HostsWaiting(placementID uint64) (id uint64, err error) {
	err = t.db.Raw("SELECT COALESCE(MIN(id), 0) FROM syncs WHERE placement_id = ? AND scope = ? AND state = ?", placementID, ScopeHosts, SyncPending).Scan(&id).Error
	return id, err
}

// MakeWay ends a turn of a running sync for another one. Its next turn comes after that one, and not after those that come
// later, so that it gets on.
func (t *Tx) MakeWay(s Sync, other uint64) error {
	return t.db.Exec("UPDATE syncs SET state = ?, made_way_for = ? WHERE id = ? AND state = ?", SyncPending, other, s.ID, SyncRunning).Error
}

// LastSyncOfHosts returns the newest sync of a placement's hosts that ended or is held up; zero for none.
func (t *Tx) LastSyncOfHosts(placementID uint64) (s Sync, err error) {
	err = t.db.Where("placement_id = ? AND scope = ? AND (finished_at IS NOT NULL OR trouble <> '')", placementID, ScopeHosts).Order("id DESC").Limit(1).Find(&s).Error
	return s, err
}

// UpdateSync changes columns of a sync.
func (t *Tx) UpdateSync(id uint64, columns map[string]any) error {
	return t.db.Model(&Sync{}).Where("id = ?", id).Updates(columns).Error
}

// EndSync ends a sync that has not ended yet, with how long its nameservers took.
func (t *Tx) EndSync(s Sync, state SyncState, message string, found []finding.Finding) error {
	if found == nil {
		found = []finding.Finding{}
	}
	return t.db.Exec("UPDATE syncs SET state = ?, message = ?, findings = ?, trouble = '', next_try_at = NULL, finished_at = ?, visible_ms = ? WHERE id = ? AND state IN ?",
		state, message, jsonText(found), t.now(), s.VisibleMS, s.ID, unfinished).Error
}

// SyncsOfZone returns the last syncs of a zone, newest first.
func (t *Tx) SyncsOfZone(zoneID uint64) (list []Sync, err error) {
	err = t.db.Raw("SELECT s.* FROM syncs s JOIN placements p ON p.id = s.placement_id WHERE p.zone_id = ? ORDER BY s.id DESC LIMIT 60", zoneID).Scan(&list).Error
	return list, err
}

// AwaitHosts makes sure that syncs of the hosts at placements are going to begin after this transaction: one that is waiting will do. The placements are locked, as they are where a sync
// begins, so that none slips in between.
func (t *Tx) AwaitHosts(placements []Placement, by string) error {
	if len(placements) == 0 {
		return nil
	}
	if err := t.LockPlacements(placements); err != nil {
		return err
	}
	ids := make([]uint64, len(placements))
	for i, p := range placements {
		ids[i] = p.ID
	}
	var rows []struct {
		ID, AccountID uint64
		RevisionID    *uint64
		Waiting       bool
	}
	if err := t.db.Raw(`SELECT p.id, p.account_id, z.revision_id, EXISTS (SELECT 1 FROM syncs s WHERE s.placement_id = p.id AND s.scope = ? AND s.state = ?) AS waiting
		FROM placements p JOIN zones z ON z.id = p.zone_id WHERE p.id IN ? ORDER BY p.id`, ScopeHosts, SyncPending, ids).Scan(&rows).Error; err != nil {
		return err
	}
	var list []Sync
	var accounts []uint64
	for _, r := range rows {
		if r.Waiting {
			continue
		}
		if r.RevisionID == nil {
			return fmt.Errorf("the zone of placement %d has no contents", r.ID)
		}
		list = append(list, Sync{PlacementID: r.ID, RevisionID: *r.RevisionID, Scope: ScopeHosts, RequestedBy: cut(by, 100), State: SyncPending, Allowed: jsonText([]string(nil)), Findings: "[]", CreatedAt: t.now()})
		accounts = append(accounts, r.AccountID)
	}
	if len(list) == 0 {
		return nil
	}
	if err := t.db.Create(&list).Error; err != nil {
		return err
	}
	jobs := make([]newJob, len(list))
	for i, s := range list {
		jobs[i] = newJob{Subject: s.ID, Lane: accounts[i]}
	}
	return t.enqueueAll(JobUrgent, jobs, t.now())
}

// Unsynced returns the accounts of a zone's placements whose present revision no sync has written, or that a look found to differ from it.
func (t *Tx) Unsynced(zoneID uint64) (names []string, err error) {
	err = t.db.Raw("SELECT a.name FROM placements p JOIN accounts a ON a.id = p.account_id JOIN zones z ON z.id = p.zone_id WHERE "+unsynced+" ORDER BY p.id", zoneID, Pending, SyncDone).Scan(&names).Error
	return names, err
}

// unsynced is a placement that does not hold the accepted revision, as far as is known.
const unsynced = `p.zone_id = ? AND z.revision_id IS NOT NULL
	AND (p.state = ? OR NOT EXISTS (SELECT 1 FROM syncs s WHERE s.placement_id = p.id AND s.scope = '' AND s.state = ? AND s.revision_id = z.revision_id))`

// NamesBehind returns the nameservers that placements of a zone list which do not hold the accepted revision, but for one of them. The zero Name
// stands for those of a placement that does not know them yet.
func (t *Tx) NamesBehind(zoneID, except uint64) (map[dnsname.Name]bool, error) {
	var list []Placement
	if err := t.db.Raw("SELECT p.* FROM placements p JOIN zones z ON z.id = p.zone_id WHERE "+unsynced+" AND p.id <> ?", zoneID, Pending, SyncDone, except).Scan(&list).Error; err != nil {
		return nil, err
	}
	names := map[dnsname.Name]bool{}
	for _, p := range list {
		names[dnsname.Name{}] = names[dnsname.Name{}] || p.RemoteID == ""
		for _, n := range p.Names() {
			names[n] = true
		}
	}
	return names, nil
}
