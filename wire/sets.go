package wire

import (
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/rules"
)

// SetRequest replaces or removes one desired record set, and has it written.
type SetRequest struct {
	Zone    dnsname.Name `json:"-"`                // the path names it
	Key     record.Key   `json:"-"`                // the path names it
	Tag     string       `json:"-"`                // ETag of the set that was read; empty for any
	New     bool         `json:"-"`                // only where there is no such set yet
	TTL     uint32       `json:"ttl,omitempty"`    // seconds; 0 for that of the present set, or else the most common one of the zone
	Data    []string     `json:"data"`             // as in a zone file, relative names below the zone; empty to remove the set
	Reason  string       `json:"reason,omitempty"` // kept with the revision
	Allow   []string     `json:"allow,omitempty"`  // guards that are allowed, by code
	DryRun  bool         `json:"dry_run,omitempty"`
	NoStart bool         `json:"no_sync,omitempty"` // accept the set, and start no sync
}

// SetView is a desired record set with its ETag.
type SetView struct {
	record.Set
	Tag string `json:"tag"` // its ETag; "none" where there is no such set
}

// SetWritten is what became of a SetRequest.
type SetWritten struct {
	Before   record.Set    `json:"before"`
	After    record.Set    `json:"after"`
	Tag      string        `json:"tag"`
	Changed  bool          `json:"changed"`
	Revision *Revision     `json:"revision"` // nil in a dry run
	Findings []rules.Found `json:"findings"` // about the set
	Syncs    []SyncView    `json:"syncs"`    // that were started
	Waiting  []WaitingSync `json:"waiting"`  // syncs that start once something else has ended
}
