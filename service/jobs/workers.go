package jobs

import (
	"cmp"
	"context"
	"sync"
	"time"

	"beacon/store"
)

// Workers sleep until they are woken: by a transaction of this instance that stored new work, or by the one look at the database that asks, for all
// kinds, which work is due and when the next will be. It is made at that time, and so often for what other instances stored, real time.
const (
	lookPause    = time.Second
	shortestLook = 10 * time.Millisecond
	troublePause = time.Second // after the database did not answer
	// After a claim passed over what was due: the first time and at most, twice as long each time.
	missedPause   = 2 * time.Millisecond
	longestMissed = 128 * time.Millisecond
)

// look has the next look made soon: what is due may have changed.
func (q *Queue) look() { nudge(q.scout) }

// watch wakes workers when work of their kinds is due.
func (q *Queue) watch(ctx context.Context) {
	for ctx.Err() == nil {
		pause := lookPause
		kinds, next, err := q.store.DueKinds(ctx)
		if err == nil && !next.IsZero() {
			pause = min(pause, max(next.Sub(q.store.Now()), shortestLook))
		}
		for _, kind := range kinds {
			q.Wake(kind)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(shortestLook): // so often at most, whatever happens
		}
		select {
		case <-ctx.Done():
		case <-q.scout:
		case <-time.After(pause):
		}
	}
}

// crew is who does work of some kinds at the same time: so many at most, and so many in one lane. A lane is an account
// at a provider: a slow one keeps its own lane busy and no other.
type crew struct {
	mu      sync.Mutex
	most    int
	perLane int
	own     func(lane uint64) int // how many in a lane of its own choice
	busy    int
	lanes   map[uint64]int
	freed   chan struct{} // told when somebody is free again
}

func newCrew(w Workers) *crew {
	own := w.Lanes
	if own == nil {
		own = func(uint64) int { return 0 }
	}
	return &crew{most: w.Most, perLane: w.PerLane, own: own, lanes: map[uint64]int{}, freed: make(chan struct{}, 1)}
}

// full reports whether nobody is free, and else which lanes are.
func (c *crew) full() (all bool, lanes []uint64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for lane, n := range c.lanes {
		if lane != 0 && n >= cmp.Or(c.own(lane), c.perLane) {
			lanes = append(lanes, lane)
		}
	}
	return c.busy >= c.most, lanes
}

func (c *crew) take(lane uint64, by int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.busy += by
	if c.lanes[lane] += by; c.lanes[lane] == 0 {
		delete(c.lanes, lane)
	}
	if by < 0 {
		nudge(c.freed)
	}
}

// dispatch takes jobs and has a crew run them, until ctx ends and all are put down.
func (q *Queue) dispatch(ctx context.Context, w Workers) {
	c := newCrew(w)
	wake := q.wakes[w.Kinds[0]]
	var group sync.WaitGroup
	defer group.Wait()
	pause := missedPause
	for ctx.Err() == nil {
		full, lanes := c.full()
		var job store.Job
		var ok, missed bool
		var err error
		if !full {
			err = q.store.Tx(ctx, func(tx *store.Tx) (err error) {
				if job, ok, err = tx.Claim(w.Lease, lanes, w.Kinds...); err == nil && !ok {
					missed, err = tx.Missed(lanes, w.Kinds...)
				}
				return err
			})
			if err != nil && ctx.Err() == nil && !store.IsAway(err) { // an outage is logged once, by what watches the database
				q.log.Error("no work can be taken from the database", "error", err)
			}
		}
		if err == nil && ok {
			c.take(job.Lane, 1)
			group.Go(func() {
				defer c.take(job.Lane, -1)
				q.run(ctx, job, w.Lease)
			})
			continue
		}
		var rest <-chan time.Time
		switch {
		case err != nil:
			rest = time.After(troublePause)
		case missed:
			rest, pause = time.After(pause), min(2*pause, longestMissed)
		}
		if !missed {
			pause = missedPause
		}
		select {
		case <-ctx.Done():
		case <-wake:
		case <-c.freed:
		case <-rest:
		}
	}
}
