package store

import (
	"context"
	"sync"
	"time"

	"beacon/clock"
)

// The clock of the database is asked this often; between two questions this machine's counts on.
const (
	clockKept   = 30 * time.Second
	clockUsable = 500 * time.Millisecond // an answer that took longer says too little of the time, where one was had before
)

// dbClock tells the database's time, which all instances share: what this machine's clock says does not matter. It is safe for
// concurrent use.
type dbClock struct {
	mu   sync.Mutex
	at   time.Time     // the database's time
	boot time.Duration // when this machine had been up for so long
}

// now returns the database's time in UTC, to the microsecond; this machine's before the database was ever asked.
func (c *dbClock) now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.at.IsZero() {
		return clock.Wall{}.Now()
	}
	return c.at.Add(clock.Boot() - c.boot).Truncate(time.Microsecond)
}

// stale reports whether the database is to be asked again, and says so to one caller only.
func (c *dbClock) stale() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.at.IsZero() || clock.Boot()-c.boot > clockKept
}

// set keeps what the database answered, about half way between the question and the answer.
func (c *dbClock) set(at time.Time, asked, answered time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if answered-asked > clockUsable && !c.at.IsZero() {
		return
	}
	c.at, c.boot = at.UTC(), (asked+answered)/2
}

// Now returns the database's time in UTC, to the microsecond: that of leases, due times and everything else that instances share.
func (s *Store) Now() time.Time { return s.now() }

// tune asks the database for its time where that was not done for a while.
func (s *Store) tune(ctx context.Context) error {
	if s.clock == nil || !s.clock.stale() {
		return nil
	}
	asked := clock.Boot()
	var at time.Time
	if err := s.db.WithContext(ctx).Raw("SELECT UTC_TIMESTAMP(6)").Scan(&at).Error; err != nil {
		return err
	}
	s.clock.set(at, asked, clock.Boot())
	return nil
}
