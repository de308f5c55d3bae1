package store

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// ErrLeaseLost means that a job is no longer ours: its lease ran out and somebody else may have it.
var ErrLeaseLost = errors.New("the lease of this work was lost")

// Job is a piece of background work. There is at most one for each kind and subject, so that no subject is worked on
// twice at a time, by however many instances.
type Job struct {
	ID       uint64
	Kind     string
	Subject  uint64
	State    string // "open" or "done"
	DueAt    time.Time
	Holder   string
	Turn     uint64 // rises each time that it is taken
	Attempts int
	Problem  string
	Lane     uint64 // the account that the work is at; 0 for none
}

// The kinds of the jobs that check domains, look for drift, tell secondaries of changes, number lines of the logbook, and put out what a followed folder changed.
const (
	JobCheck    = "check"
	JobLook     = "look"
	JobNotify   = "notify"
	JobSequence = "sequence"
	JobFollow   = "follow"
	JobWatch    = "watch"     // accepts the files of the followed folder
	JobLookOnce = "look-once" // at what is asked for, by instances that do not look for drift themselves, too
	JobProbe    = "probe"
	JobSweep    = "sweep"
	JobPrune    = "prune"
	JobSample   = "sample"
	JobVanished = "vanished" // retires, and deletes, a zone whose file is gone
)

// TableName is the table that jobs are kept in.
func (Job) TableName() string { return "jobs" }

// Enqueue makes sure that there is open work of this kind on subject, due at the given real time or earlier.
// Work that somebody holds is left to finish and done once more afterwards: what it looked at may have been what was before.
func (t *Tx) Enqueue(kind string, subject uint64, due time.Time) error {
	return t.EnqueueIn(kind, subject, 0, due)
}

// EnqueueIn does the same for work that is at an account, its lane.
func (t *Tx) EnqueueIn(kind string, subject, lane uint64, due time.Time) error {
	return t.enqueue(kind, subject, lane, due, nil)
}

// EnqueueWorld does the same for work that is due at a simulated time, world, which is due in real time as the clocks run now.
func (t *Tx) EnqueueWorld(kind string, subject uint64, due, world time.Time) error {
	return t.enqueue(kind, subject, 0, due, &world)
}

func (t *Tx) enqueue(kind string, subject, lane uint64, due time.Time, world *time.Time) error {
	t.kinds = append(t.kinds, kind)
	return t.db.Exec(`INSERT INTO jobs (kind, subject, lane, state, due_at, world_due, holder, attempts, problem) VALUES (?, ?, ?, 'open', ?, ?, '', 0, '')
		ON DUPLICATE KEY UPDATE
			world_due = IF(state = 'done' OR holder = '' AND VALUES(due_at) < due_at, VALUES(world_due), world_due),
			again_at = IF(state = 'open' AND holder <> '', LEAST(COALESCE(again_at, VALUES(due_at)), VALUES(due_at)), again_at),
			due_at = IF(state = 'done', VALUES(due_at), IF(holder = '', LEAST(due_at, VALUES(due_at)), due_at)),
			attempts = IF(state = 'done', 0, attempts),
			state = 'open'`, kind, subject, lane, due, world).Error
}

// newJob is work of a kind.
type newJob struct{ Subject, Lane uint64 }

// enqueueAll keeps work that is not there yet.
func (t *Tx) enqueueAll(kind string, list []newJob, due time.Time) error {
	t.kinds = append(t.kinds, kind)
	args := make([]any, 0, 4*len(list))
	for _, j := range list {
		args = append(args, kind, j.Subject, j.Lane, due)
	}
	return t.db.Exec("INSERT INTO jobs (kind, subject, lane, state, due_at, holder, attempts, problem) VALUES "+
		strings.TrimSuffix(strings.Repeat("(?, ?, ?, 'open', ?, '', 0, ''), ", len(list)), ", "), args...).Error
}

// Claim leases the job of one of the kinds that has been due longest and is in none of the full lanes, if there is one. Leased jobs are open with a due time
// at the end of the lease: a holder that died loses its work by itself, and one index serves both.
func (t *Tx) Claim(lease time.Duration, full []uint64, kinds ...string) (Job, bool, error) {
	var job Job
	now := t.now()
	err := t.due(now, full, kinds).Clauses(clause.Locking{Strength: "UPDATE", Options: "SKIP LOCKED"}).Order("due_at, id").Limit(1).Take(&job).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return job, false, nil
	}
	if err != nil {
		return job, false, err
	}
	var random [12]byte
	if _, err := rand.Read(random[:]); err != nil {
		return job, false, err
	}
	job.Holder, job.DueAt = hex.EncodeToString(random[:]), now.Add(lease)
	job.Attempts++
	job.Turn++
	return job, true, t.db.Exec("UPDATE jobs SET holder = ?, turn = ?, due_at = ?, world_due = NULL, attempts = ?, again_at = NULL WHERE id = ?", job.Holder, job.Turn, job.DueAt, job.Attempts, job.ID).Error
}

// Missed reports whether a job is due that Claim would lease. A claim passes over rows that others look at just then, those included that
// they do not want: "none" is believed only where this says no, too.
func (t *Tx) Missed(full []uint64, kinds ...string) (bool, error) {
	var n int64
	err := t.due(t.now(), full, kinds).Model(&Job{}).Limit(1).Count(&n).Error
	return n > 0, err
}

// due are the jobs of the kinds that are due and in none of the full lanes.
func (t *Tx) due(now time.Time, full []uint64, kinds []string) *gorm.DB {
	due := t.db.Where("state = 'open' AND due_at <= ? AND kind IN ?", now, kinds)
	if len(full) > 0 {
		due = due.Where("lane NOT IN ?", full)
	}
	return due
}

// Hold confirms within a transaction that the job is still ours, and keeps it so until the transaction ends.
func (t *Tx) Hold(job Job) error {
	var held []uint64
	err := t.db.Raw("SELECT turn FROM jobs WHERE id = ? AND state = 'open' AND holder <> '' FOR UPDATE", job.ID).Scan(&held).Error
	if err == nil && (len(held) == 0 || held[0] != job.Turn) {
		return ErrLeaseLost
	}
	return err
}

// Extend lengthens a lease.
func (t *Tx) Extend(job Job, lease time.Duration) error {
	return t.updateHeld(job, "UPDATE jobs SET due_at = ? WHERE id = ? AND turn = ? AND holder <> ''", t.now().Add(lease), job.ID, job.Turn)
}

// Extend lengthens a lease by itself, in one statement.
func (s *Store) Extend(ctx context.Context, job Job, lease time.Duration) error {
	return s.note(judge((&Tx{db: s.db.WithContext(ctx), now: s.now, kept: &s.kept}).Extend(job, lease), false))
}

// DueKinds is that of a transaction, in one statement by itself.
func (s *Store) DueKinds(ctx context.Context) (kinds []string, next time.Time, err error) {
	if err := s.tune(ctx); err != nil {
		return nil, next, s.note(judge(err, false))
	}
	kinds, next, err = (&Tx{db: s.db.WithContext(ctx), now: s.now, kept: &s.kept, reading: true}).DueKinds()
	return kinds, next, s.note(judge(err, false))
}

// Finish ends a job; problem is empty where it went well. One that was asked for meanwhile is open again.
func (t *Tx) Finish(job Job, problem string) error {
	return t.updateHeld(job, `UPDATE jobs SET state = IF(again_at IS NULL, 'done', 'open'), due_at = COALESCE(again_at, due_at), attempts = IF(again_at IS NULL, attempts, 0),
		again_at = NULL, holder = '', problem = ? WHERE id = ? AND turn = ? AND holder <> ''`, problem, job.ID, job.Turn)
}

// Again returns a job back, due at the given real time, or when it was asked for meanwhile.
func (t *Tx) Again(job Job, due time.Time, problem string) error {
	return t.updateHeld(job, `UPDATE jobs SET due_at = LEAST(?, COALESCE(again_at, ?)), attempts = IF(again_at IS NULL, attempts, 0),
		again_at = NULL, holder = '', problem = ? WHERE id = ? AND turn = ? AND holder <> ''`, due, due, problem, job.ID, job.Turn)
}

// Anew returns a job back that went well and is due again.
func (t *Tx) Anew(job Job, due time.Time) error {
	return t.updateHeld(job, `UPDATE jobs SET due_at = LEAST(?, COALESCE(again_at, ?)), attempts = 0, problem = '',
		again_at = NULL, holder = '' WHERE id = ? AND turn = ? AND holder <> ''`, due, due, job.ID, job.Turn)
}

// AnewWorld is Anew for a job that is due again at a simulated time, world, which is due in real time as the clocks run now.
func (t *Tx) AnewWorld(job Job, due, world time.Time) error {
	return t.updateHeld(job, `UPDATE jobs SET world_due = IF(again_at < ?, NULL, ?), due_at = LEAST(?, COALESCE(again_at, ?)), attempts = 0, problem = '',
		again_at = NULL, holder = '' WHERE id = ? AND turn = ? AND holder <> ''`, due, world, due, due, job.ID, job.Turn)
}

// Retime sets anew when what is due at a simulated time is due in real time, after another clock was set or runs at another rate: the
// simulated clock shows world when the real one shows real, and runs rate times as fast.
func (t *Tx) Retime(real, world time.Time, rate float64) error {
	return t.db.Exec(`UPDATE jobs SET due_at = DATE_ADD(?, INTERVAL CAST(TIMESTAMPDIFF(MICROSECOND, ?, world_due) / ? AS SIGNED) MICROSECOND)
		WHERE world_due IS NOT NULL AND state = 'open' AND holder = ''`, real, world, rate).Error
}

// Ahead returns the jobs that are being done or are due by soon, and the earliest simulated time at which work that nobody has is due, nil
// for none. Kinds in except do not count.
func (t *Tx) Ahead(soon time.Time, except []string) (underway []Job, next *time.Time, err error) {
	err = t.db.Where("state = 'open' AND (holder <> '' OR due_at <= ? OR world_due IS NULL AND due_at <= ?) AND kind NOT IN ?", t.now(), soon, except).Find(&underway).Error
	var first struct{ Next *time.Time }
	if err == nil {
		err = t.db.Raw("SELECT MIN(world_due) AS next FROM jobs WHERE state = 'open' AND holder = ''").Scan(&first).Error
	}
	return underway, first.Next, err
}

// Later returns a job back that was not tried: somebody else's turn comes first.
func (t *Tx) Later(job Job, due time.Time) error {
	return t.updateHeld(job, `UPDATE jobs SET due_at = LEAST(?, COALESCE(again_at, ?)), attempts = attempts - 1,
		again_at = NULL, holder = '' WHERE id = ? AND turn = ? AND holder <> ''`, due, due, job.ID, job.Turn)
}

// EndJob ends the job of a kind on subject, even where an instance holds its lease.
func (t *Tx) EndJob(kind string, subject uint64) error {
	return t.db.Exec("UPDATE jobs SET state = 'done', holder = '', again_at = NULL WHERE kind = ? AND subject = ? AND state = 'open'", kind, subject).Error
}

// WakeLane makes the open jobs of a lane due that nobody has.
func (t *Tx) WakeLane(lane uint64) error {
	t.kinds = append(t.kinds, JobSync, JobUrgent, JobAct, JobLook)
	return t.db.Exec("UPDATE jobs SET due_at = LEAST(due_at, ?) WHERE lane = ? AND state = 'open' AND holder = ''", t.now(), lane).Error
}

// WakeAll makes all open jobs due that nobody has, of kinds that change something outside.
func (t *Tx) WakeAll() error {
	t.kinds = append(t.kinds, JobSync, JobUrgent, JobAct)
	return t.db.Exec("UPDATE jobs SET due_at = LEAST(due_at, ?) WHERE kind IN ? AND state = 'open' AND holder = ''", t.now(), []string{JobSync, JobUrgent, JobAct}).Error
}

// DueKinds returns the kinds of which a job is due, and when the next job of any kind will be; the zero time for none.
func (t *Tx) DueKinds() (kinds []string, next time.Time, err error) {
	var rows []struct {
		Kind string
		Due  time.Time
	}
	err = t.db.Raw("SELECT kind, MIN(due_at) AS due FROM jobs WHERE state = 'open' GROUP BY kind").Scan(&rows).Error
	now := t.now()
	for _, r := range rows {
		switch {
		case !r.Due.After(now):
			kinds = append(kinds, r.Kind)
		case next.IsZero() || r.Due.Before(next):
			next = r.Due
		}
	}
	return kinds, next, err
}

func (t *Tx) updateHeld(job Job, statement string, args ...any) error {
	res := t.db.Exec(statement, args...)
	if res.Error == nil && res.RowsAffected == 0 {
		return ErrLeaseLost
	}
	return res.Error
}
