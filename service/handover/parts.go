package handover

import (
	"beacon/service/check"
	"beacon/service/delegate"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/service/zones"
)

// Parts are what a Handover works with.
type Parts struct {
	Logbook     *logbook.Book
	Zones       *zones.Zones
	Syncs       *sync.Syncs
	Checks      *check.Checks
	Delegations *delegate.Delegations
}

// Handover moves domains to other nameservers. It is safe for concurrent use.
type Handover struct {
	logbook     *logbook.Book
	zones       *zones.Zones
	syncs       *sync.Syncs
	checks      *check.Checks
	delegations *delegate.Delegations
}

// New returns the handovers of a database.
func New(p Parts) *Handover {
	return &Handover{logbook: p.Logbook, zones: p.Zones, syncs: p.Syncs, checks: p.Checks, delegations: p.Delegations}
}
