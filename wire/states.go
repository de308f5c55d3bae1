package wire

// SyncState is where a sync is.
type SyncState string

// A sync waits, runs, retries while passing trouble is waited out, and ends as done, held (a user has to decide something), failed, or cancelled
// by a user.
const (
	SyncPending   SyncState = "pending"
	SyncRunning   SyncState = "running"
	SyncRetrying  SyncState = "retrying"
	SyncDone      SyncState = "done"
	SyncBlocked   SyncState = "blocked"
	SyncFailed    SyncState = "failed"
	SyncCancelled SyncState = "cancelled"
)

// Ended reports whether nothing more will happen to the sync.
func (s SyncState) Ended() bool {
	return s == SyncDone || s == SyncBlocked || s == SyncFailed || s == SyncCancelled
}

// RequestState is what became of a request to a provider.
type RequestState string

// A request is on its way, and turns out to be done, not done, or done in part.
const (
	RequestSent       RequestState = "sent"
	RequestDone       RequestState = "done"
	RequestNotApplied RequestState = "not-applied"
	RequestPartial    RequestState = "partial"
)

// PlacementState is what the last look at a placement showed.
type PlacementState string

// A placement has not been looked at, holds the desired records, has something to be written, was changed elsewhere, could not
// be looked at, or was read in a way that could not be confirmed.
const (
	StateUnknown PlacementState = ""
	InSync       PlacementState = "in-sync"
	Pending      PlacementState = "pending"
	Drifted      PlacementState = "drifted"
	Unreachable  PlacementState = "unreachable"
	Unconfirmed  PlacementState = "unconfirmed"
)
