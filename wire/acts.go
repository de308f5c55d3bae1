package wire

import (
	"time"

	"beacon/core/finding"
)

// The kinds of what users ask for.
const (
	ActDelegate = "delegate" // change the nameservers of a domain at its registrar
	ActDS       = "ds"       // change the DS set of a domain at its registrar
	ActLock     = "lock"     // set or lift a status of a domain at its registrar
	ActRetire   = "retire"   // take a zone from a provider
)

// ActState is what became of an act.
type ActState string

// A user's act is pending until it is taken up, and running, or retrying while passing trouble is waited out, until it ends: done, blocked
// (a gate is closed, or a guard), failed, or cancelled by a user. A
// request is sent until it is known what became of it: done, not applied, or applied in part.
const (
	ActPending    ActState = "pending"
	ActRunning    ActState = "running"
	ActRetrying   ActState = "retrying"
	ActSent       ActState = "sent"
	ActDone       ActState = "done"
	ActNotApplied ActState = "not-applied"
	ActPartial    ActState = "partial"
	ActBlocked    ActState = "blocked"
	ActFailed     ActState = "failed"
	ActCancelled  ActState = "cancelled"
)

// Ended reports whether nothing more will happen.
func (s ActState) Ended() bool {
	return s != ActPending && s != ActRunning && s != ActRetrying && s != ActSent
}

// Act is what a user asked for and what changes something outside.
type Act struct {
	ID          uint64            `json:"id"`
	Kind        string            `json:"kind"`    // "delegate", "ds", "lock" or "retire"
	Subject     string            `json:"subject"` // name of the domain or zone
	State       ActState          `json:"state"`
	RequestedBy string            `json:"requested_by"`
	Reason      string            `json:"reason"`
	Message     string            `json:"message"`            // how it ended
	Problem     string            `json:"problem"`            // what holds it up, while it runs
	Retrying    *Retrying         `json:"retrying,omitempty"` // while its state is retrying
	Findings    []finding.Finding `json:"findings"`
	Delegated   *Delegated        `json:"delegated,omitempty"` // what came of an act of the kind delegate
	DS          *DSChange         `json:"ds,omitempty"`        // what came of an act of the kind ds
	Lock        *LockChange       `json:"lock,omitempty"`      // what came of an act of the kind lock
	Retired     *Retired          `json:"retired,omitempty"`   // what came of an act of the kind retire
	CreatedAt   time.Time         `json:"created_at"`
	FinishedAt  *time.Time        `json:"finished_at"`
	Requests    []ActRequest      `json:"requests"` // only where one act is shown
}

// ActRequest is one request of an act, as it went.
type ActRequest struct {
	ID      uint64    `json:"id"`
	Kind    string    `json:"kind"`
	State   ActState  `json:"state"` // "sent" while it is not known what became of it
	Problem string    `json:"problem"`
	SentAt  time.Time `json:"sent_at"`
	TookMS  int64     `json:"took_ms"` // until its outcome was known; -1 while it is not
}
