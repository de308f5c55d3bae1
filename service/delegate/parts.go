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
	"beacon/store"
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
	// Reserved returns a problem where something else is moving a zone: then what a user asks for of its delegation is refused.
	Reserved func(tx *store.Tx, z store.Zone) error
}

// Within is called in the transaction that stores an act which a handover begins.
type Within func(tx *store.Tx, act store.Act) error

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
	reserved func(tx *store.Tx, z store.Zone) error
}

// New returns the delegations of a database, and registers the kinds of acts that they are.
func New(p Parts) *Delegations {
	s := &Delegations{logbook: p.Logbook, acts: p.Acts, accounts: p.Accounts, zones: p.Zones, syncs: p.Syncs, checks: p.Checks, sweeper: p.Sweeper, timeout: p.Timeout, watch: p.Watch, reserved: p.Reserved}
	p.Acts.Register(wire.ActDelegate, delegating{s})
	p.Acts.Register(wire.ActDS, dsChanging{s})
	p.Acts.Register(wire.ActLock, locking{s})
	p.Acts.Register(wire.ActRetire, retirement{s})
	return s
}

// free returns a problem where a handover moves a zone and the request is not its own.
func (s *Delegations) free(tx *store.Tx, z store.Zone, within Within) error {
	if within != nil {
		return nil
	}
	return s.reserved(tx, z)
}

// started tells a handover of its act.
func (w Within) started(tx *store.Tx, act store.Act) error {
	if w == nil {
		return nil
	}
	return w(tx, act)
}
