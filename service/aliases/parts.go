package aliases

import (
	"time"

	"beacon/clock"
	"beacon/resolve"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/store"
)

// Parts are what Aliases work with.
type Parts struct {
	Store   *store.Store
	Logbook *logbook.Book
	Jobs    *jobs.Queue
	World   *clock.World
	Sweeper *resolve.Sweeper
	Timeout time.Duration // of asking for one target, real time
}

// Aliases are the ALIAS records of all zones. It is safe for concurrent use.
type Aliases struct {
	store   *store.Store
	logbook *logbook.Book
	jobs    *jobs.Queue
	world   *clock.World
	sweeper *resolve.Sweeper
	timeout time.Duration
}

// New returns the ALIAS records of a database.
func New(p Parts) *Aliases {
	return &Aliases{store: p.Store, logbook: p.Logbook, jobs: p.Jobs, world: p.World, sweeper: p.Sweeper, timeout: p.Timeout}
}
