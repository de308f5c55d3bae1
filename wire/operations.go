package wire

import (
	"time"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// Operation is one change of many zones at once.
type Operation struct {
	ID       uint64    `json:"id"`
	What     string    `json:"what"`
	Author   string    `json:"author"`
	MadeAt   time.Time `json:"made_at"`
	UndoesID *uint64   `json:"undoes"` // the operation that this one takes back
	UndoneID *uint64   `json:"undone"` // the operation that took this one back
}

// ReplaceRequest asks for the same change to every record that a search finds.
type ReplaceRequest struct {
	Search      SearchRequest `json:"search" required:"true"`
	To          string        `json:"to"`           // their new data; empty to keep it
	TTL         *uint32       `json:"ttl"`          // their new TTL, in seconds
	SkipManaged bool          `json:"skip_managed"` // leave zones alone that definition files lead
	Reason      string        `json:"reason"`
	DryRun      bool          `json:"dry_run"`
	Expect      string        `json:"expect"` // digest of what was shown; empty for any
}

// Replaced returns what an operation does, or did.
type Replaced struct {
	Operation *Operation     `json:"operation"` // nil in a dry run
	Zones     []ReplacedZone `json:"zones"`
	Records   int            `json:"records"`
	Skipped   []dnsname.Name `json:"skipped"` // zones that definition files lead
	Digest    string         `json:"digest"`
}

// ReplacedZone is what an operation does to one zone.
type ReplacedZone struct {
	Zone     dnsname.Name       `json:"zone"`
	Revision uint32             `json:"revision"` // 0 in a dry run
	Steps    []record.SetChange `json:"steps"`
}
