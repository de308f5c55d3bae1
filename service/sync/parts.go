package sync

import (
	"context"
	"log/slog"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"beacon/core/change"
	"beacon/core/diff"
	"beacon/core/record"
	"beacon/provider"
	"beacon/reach"
	"beacon/resolve"
	"beacon/service/accounts"
	"beacon/service/acts"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/served"
	"beacon/service/zones"
	"beacon/store"
)

// Parts are what Syncs work with.
type Parts struct {
	Store    *store.Store
	Logbook  *logbook.Book
	Jobs     *jobs.Queue
	Log      *slog.Logger
	Acts     *acts.Acts
	Accounts *accounts.Accounts
	Zones    *zones.Zones
	Sweeper  *resolve.Sweeper
	Door     *reach.Door
	Drift    DriftSettings
	Timeout  time.Duration // of one request, real time
	Lease    time.Duration // of a job, real time
	Ended    *prometheus.CounterVec
	Observer Observer
}

// Observer is told of what syncs write.
type Observer interface {
	// Made is called in the transaction that records that a zone was made or found at a provider.
	Made(tx *store.Tx, zoneID uint64) error
	// Answers returns what is known of the targets of ALIAS records, once those that were never asked for have been.
	Answers(ctx context.Context, zone store.Zone, contents record.Contents, known []store.Alias) ([]store.Alias, error)
	// Written is called in the transaction that records which steps were done at a placement.
	Written(tx *store.Tx, placementID uint64, hosts []store.Host, done change.List) error
	// Ours returns which of the differences at a placement this service made itself before its database went back.
	Ours(tx *store.Tx, placementID uint64, r diff.Result) ([]record.Key, error)
	// Invisible returns the reports that are written to a placement and were not seen at its nameservers yet.
	Invisible(tx *store.Tx, placementID uint64) (map[uint64]bool, error)
	// Visible is called in the transaction that records that every nameserver of a placement serves what hosts reported.
	Visible(tx *store.Tx, placementID uint64, account string, awaited []AwaitedHost, applied change.List) error
	// Unseen is called in the transaction that ends a sync after which not every nameserver served what hosts reported.
	Unseen(tx *store.Tx, placementID uint64, awaited []AwaitedHost) error
}

// Syncs write the desired records of zones to providers. It is safe for concurrent use.
type Syncs struct {
	store     *store.Store
	logbook   *logbook.Book
	jobs      *jobs.Queue
	log       *slog.Logger
	acts      *acts.Acts
	accounts  *accounts.Accounts
	zones     *zones.Zones
	served    served.Servers
	every     time.Duration // between two looks for drift; 0 for never
	timeout   time.Duration
	lease     time.Duration
	ended     *prometheus.CounterVec
	observer  Observer
	live      provider.Memory
	confirmed served.Confirmations
	inSync    syncedPlacements
	zoneLists accounts.ZoneLists
}

// New returns the syncs of a database.
func New(p Parts) *Syncs {
	return &Syncs{store: p.Store, logbook: p.Logbook, jobs: p.Jobs, log: p.Log, acts: p.Acts, accounts: p.Accounts, zones: p.Zones, served: served.Servers{Sweeper: p.Sweeper, Door: p.Door, Timeout: p.Timeout},
		every: p.Drift.Every, timeout: p.Timeout, lease: p.Lease, ended: p.Ended, observer: p.Observer}
}
