package store

import (
	"time"

	"beacon/core/dnsname"
)

// JobGather is the kind of the jobs that learn what a zone contains.
const JobGather = "gather"

// The states of a gathering.
const (
	GatherPending = "pending"
	GatherRunning = "running"
	GatherDone    = "done"
	GatherFailed  = "failed"
)

// Gathering is what was learned of a zone from those who serve it.
type Gathering struct {
	ID          uint64
	Domain      string
	Asked       string // JSON: what was asked for
	State       string
	Step        string // what is being done
	Found       []byte // compressed: the sources
	Problem     string // why it ended before its end
	RequestedBy string
	CreatedAt   time.Time
	FinishedAt  *time.Time
}

// TableName is the table that gatherings are kept in.
func (Gathering) TableName() string { return "gatherings" }

// AddGathering keeps a gathering that is asked for.
func (t *Tx) AddGathering(g *Gathering) error {
	g.State, g.CreatedAt = GatherPending, t.now()
	return t.db.Create(g).Error
}

// Gathering finds a gathering.
func (t *Tx) Gathering(id uint64) (g Gathering, err error) {
	err = t.db.Where("id = ?", id).Take(&g).Error
	return g, found(err, "gathering %d", id)
}

// GatheringOf returns the newest gathering of a domain.
func (t *Tx) GatheringOf(domain dnsname.Name) (g Gathering, err error) {
	err = t.db.Where("domain = ?", domain.String()).Order("id DESC").Limit(1).Take(&g).Error
	return g, found(err, "gathering of %s", domain)
}

// NoteGathering keeps what a gathering is doing.
func (t *Tx) NoteGathering(id uint64, step string) error {
	return t.db.Exec("UPDATE gatherings SET state = ?, step = ? WHERE id = ?", GatherRunning, cut(step, 200), id).Error
}

// EndGathering keeps what a gathering found, or why it failed.
func (t *Tx) EndGathering(id uint64, found []byte, problem string) error {
	state := GatherDone
	if problem != "" {
		state = GatherFailed
	}
	return t.db.Exec("UPDATE gatherings SET state = ?, step = '', found = ?, problem = ?, finished_at = ? WHERE id = ?", state, found, cut(problem, 60000), t.now(), id).Error
}
