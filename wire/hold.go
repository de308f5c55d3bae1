package wire

import (
	"time"

	"beacon/core/dnsname"
)

// MostHeld is how many placements a hold lists.
const MostHeld = 1000

// Hold keeps the service from changing anything outside: it looks, and writes nothing until a user releases it.
type Hold struct {
	Held       bool            `json:"held"`
	Since      *time.Time      `json:"since"`
	Reason     string          `json:"reason"`
	Asked      string          `json:"asked"`    // who asked for it; "service" where the database went back
	Total      int             `json:"total"`    // placements
	Newer      int             `json:"newer"`    // of those that are held: they have record sets that are newer outside
	Unseen     int             `json:"unseen"`   // of those that are held: not looked at since the hold began
	Released   int             `json:"released"` // that may be written to again
	Placements []HeldPlacement `json:"placements"`
}

// HeldPlacement is a placement under a hold that is not as it was left, or was released.
type HeldPlacement struct {
	Zone     dnsname.Name   `json:"zone"`
	Account  string         `json:"account"`
	Released bool           `json:"released"`
	Newer    int            `json:"newer"`   // record sets that are newer outside than the database knows
	Ours     int            `json:"ours"`    // of those, written by this service, as the journal beside its key has it
	Pending  int            `json:"pending"` // record sets that a sync would write
	Looked   bool           `json:"looked"`  // since the hold began
	State    PlacementState `json:"state"`
	Trouble  string         `json:"trouble"`
}

// HoldRequest begins a hold.
type HoldRequest struct {
	Reason string `json:"reason"`
}

// HoldRelease ends a hold: for a zone's placements, at one account where it is named, or for everything.
type HoldRelease struct {
	Zone    dnsname.Name `json:"zone"`
	Account string       `json:"account"`
	All     bool         `json:"all"`
}
