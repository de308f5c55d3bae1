package store

import "time"

// JobHandover is the kind of the jobs that drive handovers.
const JobHandover = "handover"

// The states of a handover. Only open ones are driven; a paused one is looked at, and starts nothing.
const (
	HandoverOpen      = "open"
	HandoverPaused    = "paused"
	HandoverDone      = "done"
	HandoverAbandoned = "abandoned"
)

// Handover is the move of a domain to other nameservers. How far it is follows from evidence and marks; phase, asked, next_at and decided are what was
// decided last, for lists and for who looks at it.
type Handover struct {
	ID         uint64
	ZoneID     uint64
	State      string
	Course     string // JSON
	Digest     string // of the course
	OldAccount *uint64
	NewAccount *uint64
	Lane       uint64 // the registrar's account; 0 for none
	Phase      string
	Asked      string     // the kind of what is asked of a user; empty for nothing
	Asks       string     // and in words
	NextAt     *time.Time // when it is looked at again at the latest, simulated time; nil: it is due
	DecidedAt  *time.Time // simulated time
	Decided    string     // JSON
	Planned    string     // the timetable as of its beginning, JSON
	BegunBy    string
	BegunAt    time.Time // simulated time
	EndedAt    *time.Time
	Batch      string // that it belongs to; empty for none
	AtOnce     int    // how many of the batch may be under way at a time; 0 for all
}

// TableName is the table that handovers are kept in.
func (Handover) TableName() string { return "handovers" }

// Ended reports whether nothing more is done for it.
func (h Handover) Ended() bool { return h.State == HandoverDone || h.State == HandoverAbandoned }

// HandoverMark is something that was established of a handover, said by a user, or begun for it. Marks are appended only.
type HandoverMark struct {
	ID         uint64
	HandoverID uint64
	Kind       string
	About      string // the act, gate or digest that it is about
	At         time.Time
	Until      *time.Time
	Withdrawn  bool
	ActID      *uint64
	SyncID     *uint64
	SaidBy     string // the user; empty where it follows from evidence
	Detail     string
	CreatedAt  time.Time
}

// TableName is the table that marks are kept in.
func (HandoverMark) TableName() string { return "handover_marks" }

// AddHandover keeps a handover that begins.
func (t *Tx) AddHandover(h *Handover) error { return t.db.Create(h).Error }

// HandoverByID finds a handover.
func (t *Tx) HandoverByID(id uint64) (h Handover, err error) {
	err = t.db.Where("id = ?", id).Take(&h).Error
	return h, found(err, "handover %d", id)
}

// LockHandover returns a handover and keeps others from it until the transaction ends.
func (t *Tx) LockHandover(id uint64) (h Handover, err error) {
	err = t.locking().Where("id = ?", id).Take(&h).Error
	return h, found(err, "handover %d", id)
}

// OpenHandover returns the handover of a zone that has not ended; its ID is zero where there is none.
func (t *Tx) OpenHandover(zoneID uint64) (h Handover, err error) {
	err = t.db.Where("zone_id = ? AND state IN (?, ?)", zoneID, HandoverOpen, HandoverPaused).Limit(1).Find(&h).Error
	return h, err
}

// LastHandover returns the newest handover of a zone; its ID is zero where there is none.
func (t *Tx) LastHandover(zoneID uint64) (h Handover, err error) {
	err = t.db.Where("zone_id = ?", zoneID).Order("id DESC").Limit(1).Find(&h).Error
	return h, err
}

// SaveHandover keeps what was decided of a handover, and its state.
func (t *Tx) SaveHandover(h Handover) error {
	return t.db.Model(&Handover{}).Where("id = ?", h.ID).Updates(map[string]any{"state": h.State, "course": h.Course, "digest": h.Digest, "phase": h.Phase, "asked": h.Asked, "asks": cut(h.Asks, 300),
		"next_at": h.NextAt, "decided_at": h.DecidedAt, "decided": h.Decided, "planned": h.Planned, "ended_at": h.EndedAt}).Error
}

// AddMark appends a mark.
func (t *Tx) AddMark(m *HandoverMark) error {
	m.CreatedAt, m.Detail, m.About = t.now(), cut(m.Detail, 60000), cut(m.About, 200)
	return t.db.Create(m).Error
}

// Marks returns the marks of a handover in the order in which they were appended.
func (t *Tx) Marks(handoverID uint64) (list []HandoverMark, err error) {
	err = t.db.Where("handover_id = ?", handoverID).Order("id").Find(&list).Error
	return list, err
}

// HandoverRow is a handover in a list, with the names of the domain and of the accounts.
type HandoverRow struct {
	Handover
	NameKey string
	OldName string
	NewName string
}

// handoverRow is what is selected for a list of handovers.
const handoverRow = "SELECT h.*, z.name_key, COALESCE(o.name, '') AS old_name, COALESCE(n.name, '') AS new_name FROM handovers h JOIN zones z ON z.id = h.zone_id LEFT JOIN accounts o ON o.id = h.old_account LEFT JOIN accounts n ON n.id = h.new_account WHERE "

// HandoverPlace is a place in a list of handovers.
type HandoverPlace struct {
	Next time.Time
	ID   uint64
}

// beginning of all times, for handovers that are looked at now.
const noNext = "'1970-01-01 00:00:00'"

// OpenHandovers returns at most limit handovers that have not ended, by the next moment at which something is due, behind a place in that list.
func (t *Tx) OpenHandovers(after HandoverPlace, limit int) (list []HandoverRow, err error) {
	in, args := t.inZones("z.name_key")
	next := "COALESCE(h.next_at, " + noNext + ")"
	err = t.db.Raw(handoverRow+"h.state IN ('open', 'paused') AND ("+next+", h.id) > (?, ?) AND "+in+
		" ORDER BY "+next+", h.id LIMIT ?", append(append([]any{after.Next, after.ID}, args...), limit)...).Scan(&list).Error
	return list, err
}

// AskingHandovers returns at most limit open handovers that ask something of a user, by the domain's name.
func (t *Tx) AskingHandovers(limit int) (list []HandoverRow, err error) {
	in, args := t.inZones("z.name_key")
	err = t.db.Raw(handoverRow+"h.state = 'open' AND h.asks <> '' AND "+in+" ORDER BY z.name_key LIMIT ?", append(args, limit)...).Scan(&list).Error
	return list, err
}

// EndedHandovers returns at most limit handovers that have ended, the newest first, before an id; 0 for the newest.
func (t *Tx) EndedHandovers(before uint64, limit int) (list []HandoverRow, err error) {
	in, args := t.inZones("z.name_key")
	err = t.db.Raw(handoverRow+"h.state NOT IN ('open', 'paused') AND (? = 0 OR h.id < ?) AND "+in+
		" ORDER BY h.id DESC LIMIT ?", append(append([]any{before, before}, args...), limit)...).Scan(&list).Error
	return list, err
}

// BatchMate is an open handover of a batch.
type BatchMate struct {
	ID       uint64
	NameKey  string
	UnderWay bool // an act that a user has to allow was begun
	Asks     string
	Trouble  bool // its last act did not come about
}

// LockBatch returns the open handovers of a batch, and keeps others from them until the transaction ends. about are the acts that make one count as under way.
func (t *Tx) LockBatch(batch string, about []string) (list []BatchMate, err error) {
	var locked []uint64
	if err := t.db.Raw("SELECT id FROM handovers WHERE batch = ? AND state IN ('open', 'paused') ORDER BY id FOR UPDATE", batch).Scan(&locked).Error; err != nil || len(locked) == 0 {
		return nil, err
	}
	err = t.db.Raw(`SELECT h.id, z.name_key, h.asks, EXISTS (SELECT 1 FROM handover_marks m WHERE m.handover_id = h.id AND m.kind = 'begun' AND m.about IN ? AND m.act_id IS NOT NULL) AS under_way,
		COALESCE(JSON_VALUE(h.decided, '$.trouble'), '') <> '' AS trouble FROM handovers h JOIN zones z ON z.id = h.zone_id WHERE h.id IN ? ORDER BY h.id`, about, locked).Scan(&list).Error
	return list, err
}
