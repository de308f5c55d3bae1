package served

import (
	"sync"
	"time"

	"beacon/core/diff"
)

// confirmedFor is how long a confirmed difference is believed without asking again, real time.
const confirmedFor = 10 * time.Minute

// Confirmations keeps which doubts about a placement were confirmed last, so that a difference that stays is not asked about with every look. The zero value is
// empty; it is safe for concurrent use.
type Confirmations struct {
	mu   sync.Mutex
	last map[uint64]confirmed // by placement
}

type confirmed struct {
	doubts  []diff.Doubt
	written time.Time // the placement's last write
	until   time.Time
}

// Has reports whether these doubts were confirmed, and the placement was not written to since.
func (c *Confirmations) Has(placement uint64, written time.Time, doubts []diff.Doubt, now time.Time) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	last, ok := c.last[placement]
	return ok && now.Before(last.until) && last.written.Equal(written) && diff.SameDoubts(last.doubts, doubts)
}

// Set keeps what was confirmed; no doubts forget what there was.
func (c *Confirmations) Set(placement uint64, written time.Time, doubts []diff.Doubt, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(doubts) == 0 {
		delete(c.last, placement)
		return
	}
	if c.last == nil {
		c.last = map[uint64]confirmed{}
	}
	c.last[placement] = confirmed{doubts, written, now.Add(confirmedFor)}
}
