package handover

import (
	"beacon/clock"
	"beacon/service/accounts"
	"beacon/service/check"
	"beacon/service/delegate"
	"beacon/service/freezes"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/notify"
	"beacon/service/sync"
	"beacon/service/zones"
)

// Parts are what a Handover works with.
type Parts struct {
	Settings    freezes.Settings
	Logbook     *logbook.Book
	Jobs        *jobs.Queue
	World       *clock.World
	Notify      *notify.Notifier
	Accounts    *accounts.Accounts
	Zones       *zones.Zones
	Syncs       *sync.Syncs
	Checks      *check.Checks
	Delegations *delegate.Delegations
}

// Handover moves domains to other nameservers. It is safe for concurrent use.
type Handover struct {
	settings    freezes.Settings
	logbook     *logbook.Book
	jobs        *jobs.Queue
	world       *clock.World
	notify      *notify.Notifier
	accounts    *accounts.Accounts
	zones       *zones.Zones
	syncs       *sync.Syncs
	checks      *check.Checks
	delegations *delegate.Delegations
}

// New returns the handovers of a database.
func New(p Parts) *Handover {
	return &Handover{settings: p.Settings, logbook: p.Logbook, jobs: p.Jobs, world: p.World, notify: p.Notify, accounts: p.Accounts, zones: p.Zones, syncs: p.Syncs, checks: p.Checks, delegations: p.Delegations}
}
