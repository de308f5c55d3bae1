package handover

import (
	"time"

	"beacon/clock"
	"beacon/resolve"
	"beacon/service/accounts"
	"beacon/service/check"
	"beacon/service/logbook"
	"beacon/service/sync"
)

// Parts are what a Handover works with.
type Parts struct {
	Logbook  *logbook.Book
	Accounts *accounts.Accounts
	Syncs    *sync.Syncs
	Checks   *check.Checks
	Sweeper  *resolve.Sweeper
	Timeout  time.Duration // of one request, real time
}

// Handover moves domains to other nameservers. It is safe for concurrent use.
type Handover struct {
	logbook  *logbook.Book
	accounts *accounts.Accounts
	syncs    *sync.Syncs
	checks   *check.Checks
	sweeper  *resolve.Sweeper
	wall     clock.Wall
	timeout  time.Duration
}

// New returns the handovers of a database.
func New(p Parts) *Handover {
	return &Handover{logbook: p.Logbook, accounts: p.Accounts, syncs: p.Syncs, checks: p.Checks, sweeper: p.Sweeper, timeout: p.Timeout}
}
