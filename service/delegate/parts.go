package delegate

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

// Parts are what Delegations work with.
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

// Delegations change what registrars hold of domains, and retire zones to other nameservers. It is safe for concurrent use.
type Delegations struct {
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

// New returns the delegations of a database, and registers the kinds of acts that they are.
func New(p Parts) *Delegations {
	s := &Delegations{logbook: p.Logbook, acts: p.Acts, accounts: p.Accounts, zones: p.Zones, syncs: p.Syncs, checks: p.Checks, sweeper: p.Sweeper, timeout: p.Timeout, watch: p.Watch}
	p.Acts.Register(wire.ActDelegate, delegating{s})
	p.Acts.Register(wire.ActDS, dsChanging{s})
	p.Acts.Register(wire.ActLock, locking{s})
	p.Acts.Register(wire.ActRetire, retirement{s})
	return s
}
