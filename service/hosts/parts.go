package hosts

import (
	"log/slog"
	"net/netip"
	gosync "sync"
	"sync/atomic"

	"beacon/clock"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/store"
)

// Parts are what Hosts work with.
type Parts struct {
	Store   *store.Store
	Logbook *logbook.Book
	Jobs    *jobs.Queue
	World   *clock.World
	Log     *slog.Logger
	Tell    func(tx *store.Tx, zoneID uint64) error // notifies of what changed about a zone
	Believe []netip.Prefix                          // networks whose addresses are taken though they are private
}

// Hosts are the dynamic hosts of all zones. It is safe for concurrent use.
type Hosts struct {
	store   *store.Store
	logbook *logbook.Book
	jobs    *jobs.Queue
	world   *clock.World
	believe []netip.Prefix
	log     *slog.Logger
	tell    func(*store.Tx, uint64) error

	memory    memory
	committer committer
	asked     atomic.Int64 // how often it was asked to spread
	served    atomic.Int64 // how many of these have been done
	wake      chan struct{}

	seenMu gosync.Mutex
	seen   map[uint64]store.Seen // uplinks that reported what was known
}

// New returns the hosts of a database.
func New(p Parts) *Hosts {
	return &Hosts{store: p.Store, logbook: p.Logbook, jobs: p.Jobs, world: p.World, believe: p.Believe, log: p.Log, tell: p.Tell, wake: make(chan struct{}, 1)}
}
