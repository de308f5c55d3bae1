package wire

import (
	"time"

	"beacon/core/change"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

// Difference is how a placement stands against what is wanted.
type Difference struct {
	Zone      dnsname.Name      `json:"zone"`
	Account   string            `json:"account"`
	NewZone   bool              `json:"new_zone"` // not at the provider yet
	Steps     change.List       `json:"steps"`
	Digest    string            `json:"digest"` // of the steps; names the list when a sync is asked for
	Requests  int               `json:"requests"`
	InSync    int               `json:"in_sync"`
	Drift     []diff.Item       `json:"drift"`
	Conflicts []diff.Item       `json:"conflicts"`
	Foreign   []diff.Item       `json:"foreign"`
	Ours      []record.Key      `json:"ours"` // while the service is held: those that it wrote itself before its database went back
	Guards    []finding.Finding `json:"guards"`
	Notes     []finding.Finding `json:"notes"`
}

// PlacementView is a placement with its state at the last look.
type PlacementView struct {
	Zone    dnsname.Name `json:"zone"`
	Account string       `json:"account"`
	PlacementLook
}

// PlacementLook is what was seen.
type PlacementLook struct {
	State       PlacementState `json:"state"` // "", "in-sync", "pending", "drifted", "unreachable" or "unconfirmed"
	Pending     int            `json:"pending"`
	Drifted     int            `json:"drifted"`
	Conflicting int            `json:"conflicting"`
	Foreign     int            `json:"foreign"`
	Trouble     string         `json:"trouble"`
	LookedAt    *time.Time     `json:"looked_at"`
}

// SyncRequest asks for a sync of a zone's placements.
type SyncRequest struct {
	Zone    dnsname.Name `json:"-"`       // the path names it
	Account string       `json:"account"` // only this placement; empty for all
	Allow   []string     `json:"allow"`   // codes of guards that a user allows
	Expect  string       `json:"expect"`  // digest of the change list that was shown; empty for any
	Revert  bool         `json:"revert"`  // changes made elsewhere are undone
}

// SentRequest is one request of a sync, as it was meant and as it went.
type SentRequest struct {
	ID       uint64       `json:"id"`
	Kind     string       `json:"kind"`  // "records" or "zone-made"
	State    RequestState `json:"state"` // "sent" while it is not known what became of it
	Added    int          `json:"added"`
	Changed  int          `json:"changed"`
	Removed  int          `json:"removed"`
	Names    []string     `json:"names"` // of the first sets
	Problem  string       `json:"problem"`
	SentAt   time.Time    `json:"sent_at"`
	TookMS   int64        `json:"took_ms"`  // until its outcome was known; -1 while it is not
	Accepted bool         `json:"accepted"` // the provider took it first and did it later
}

// SyncView is a sync as it is shown.
type SyncView struct {
	Zone        dnsname.Name      `json:"zone"`
	Account     string            `json:"account"`
	ID          uint64            `json:"id"`
	State       SyncState         `json:"state"`
	Total       int               `json:"total"` // steps in the change list
	Added       int               `json:"added"`
	Changed     int               `json:"changed"`
	Removed     int               `json:"removed"`
	Requests    int               `json:"requests"` // writes sent to the provider
	Message     string            `json:"message"`
	Findings    []finding.Finding `json:"findings"`
	Retrying    *Retrying         `json:"retrying,omitempty"` // while its state is retrying
	CreatedAt   time.Time         `json:"created_at"`
	FinishedAt  *time.Time        `json:"finished_at"`
	RequestedBy string            `json:"requested_by"`
	VisibleMS   *int64            `json:"visible_ms"` // from the last write until every nameserver served it
}

// Retrying is passing trouble that is waited out.
type Retrying struct {
	Problem string    `json:"problem"`
	Since   time.Time `json:"since"`
	NextTry time.Time `json:"next_try"` // at the latest; earlier where the account is reached again
}

// Cancellation ends what runs in the background. Requests that were sent stay sent.
type Cancellation struct {
	Reason string `json:"reason"`
}

// Adoption asks that what was changed at an account becomes desired.
type Adoption struct {
	Account string   `json:"account" required:"true"` // where it was changed
	Allow   []string `json:"allow,omitempty"`         // codes of guards that the user allows
}
