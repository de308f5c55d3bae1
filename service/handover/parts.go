package handover

import (
	"time"

	"beacon/resolve"
	"beacon/service/accounts"
	"beacon/service/acts"
	"beacon/service/apply"
	"beacon/service/check"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/wire"
)

// Parts are what a Handover works with.
type Parts struct {
	Logbook  *logbook.Book
	Acts     *acts.Acts
	Accounts *accounts.Accounts
	Zones    *zones.Zones
	Syncs    *sync.Syncs
	Checks   *check.Checks
	Sweeper  *resolve.Sweeper
	Timeout  time.Duration // of one request, real time
	Watch    apply.WatchSettings
}

// Handover moves domains to other nameservers. It is safe for concurrent use.
type Handover struct {
	logbook  *logbook.Book
	acts     *acts.Acts
	accounts *accounts.Accounts
	zones    *zones.Zones
	syncs    *sync.Syncs
	checks   *check.Checks
	sweeper  *resolve.Sweeper
	timeout  time.Duration
	watch    apply.WatchSettings
}

// New returns the handovers of a database, and registers the kinds of acts that they are.
func New(p Parts) *Handover {
	s := &Handover{logbook: p.Logbook, acts: p.Acts, accounts: p.Accounts, zones: p.Zones, syncs: p.Syncs, checks: p.Checks, sweeper: p.Sweeper, timeout: p.Timeout, watch: p.Watch}
	p.Acts.Register(wire.ActDelegate, delegating{s})
	p.Acts.Register(wire.ActDS, dsChanging{s})
	p.Acts.Register(wire.ActLock, locking{s})
	p.Acts.Register(wire.ActRetire, retirement{s})
	return s
}
