package apply

import (
	"beacon/core/dnsname"
	"beacon/service/accounts"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
)

// Parts are what an Applier works with.
type Parts struct {
	Logbook *logbook.Book
	Jobs    *jobs.Queue
	Zones   *zones.Zones
	Syncs   *sync.Syncs
	// Accounts finds the accounts that definitions name.
	Accounts *accounts.Accounts
	Watch    WatchSettings
	// Accepted is called in the transaction that takes a definition of a zone, with the nameservers that it names; none where it names none.
	Accepted func(tx *store.Tx, zoneID uint64, nameservers []dnsname.Name) error
}

// Applier applies definition files. It is safe for concurrent use.
type Applier struct {
	logbook  *logbook.Book
	jobs     *jobs.Queue
	zones    *zones.Zones
	syncs    *sync.Syncs
	accounts *accounts.Accounts
	watch    WatchSettings
	accepted func(*store.Tx, uint64, []dnsname.Name) error
}

// New returns an Applier.
func New(p Parts) *Applier {
	return &Applier{logbook: p.Logbook, jobs: p.Jobs, zones: p.Zones, syncs: p.Syncs, accounts: p.Accounts, watch: p.Watch, accepted: p.Accepted}
}
