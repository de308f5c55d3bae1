package service

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"beacon/outcall"
	"beacon/service/logbook"
	"beacon/store"
)

// idlePause is how long a worker that found nothing to do waits before it looks again, wall time.
const idlePause = 200 * time.Millisecond

// Run does background work until ctx ends, and returns when the work in hand has been put down. Several instances may
// run on one database: each piece of work is leased.
func (s *Service) Run(ctx context.Context) {
	var group sync.WaitGroup
	if s.settings.WorldClock != "" {
		group.Go(func() {
			s.world.KeepFollowing(ctx, s.http, s.settings.WorldClock, time.Second, func(err error) { s.log.Warn("the world clock cannot be followed", "error", err) })
		})
	}
	if err := s.catchUpRows(ctx); err != nil && ctx.Err() == nil {
		s.log.Error("the rows for searching could not be looked at", "error", err)
	}
	if err := s.scheduleLooks(ctx); err != nil && ctx.Err() == nil {
		s.log.Error("looking for drift could not be scheduled", "error", err)
	}
	if err := s.scheduleGlances(ctx); err != nil && ctx.Err() == nil {
		s.log.Error("brief looks could not be scheduled", "error", err)
	}
	group.Go(func() { s.dispatch(ctx, s.wake, newCrew(8*s.settings.Workers, s.settings.Workers), store.JobSync) })
	for range s.settings.Workers {
		group.Go(func() { s.work(ctx, nil, s.settings.Lease, "check", store.JobAlias, store.JobRows) })
	}
	group.Go(func() { s.dispatch(ctx, s.wakeUrgent, newCrew(16, 2), store.JobUrgent) })
	group.Go(func() { s.dispatch(ctx, s.wakeLook, newCrew(32, 2), store.JobLook, store.JobNotify, store.JobTell) })
	group.Go(func() { s.work(ctx, s.wakeGlance, s.settings.Lease, store.JobGlance) })
	group.Go(func() { s.work(ctx, nil, min(s.settings.Lease, logbook.SequenceLease), "sequence") })
	group.Go(func() { s.Logbook.Listen(ctx) })
	if s.settings.Primary.Listen != "" {
		group.Go(func() { s.serveTransfers(ctx) })
	}
	if s.settings.Watch.Folder != "" {
		group.Go(func() { s.watchFolder(ctx) })
	}
	group.Wait()
}

// crew is who does work of some kinds at the same time: so many at most, and so many in one lane. A lane is an account
// at a provider: a slow one keeps its own lane busy and no other.
type crew struct {
	mu      sync.Mutex
	most    int
	perLane int
	busy    int
	lanes   map[uint64]int
	freed   chan struct{} // told when somebody is free again
}

func newCrew(most, perLane int) *crew {
	return &crew{most: most, perLane: perLane, lanes: map[uint64]int{}, freed: make(chan struct{}, 1)}
}

// full tells whether nobody is free, and else which lanes are.
func (c *crew) full() (all bool, lanes []uint64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for lane, n := range c.lanes {
		if lane != 0 && n >= c.perLane {
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

// dispatch takes jobs of the given kinds and has a crew run them, until ctx ends and all are put down.
// wake tells that it is worth looking at once.
func (s *Service) dispatch(ctx context.Context, wake <-chan struct{}, c *crew, kinds ...string) {
	var group sync.WaitGroup
	defer group.Wait()
	for ctx.Err() == nil {
		full, lanes := c.full()
		var job store.Job
		var ok bool
		var err error
		if !full {
			err = s.store.Tx(ctx, func(tx *store.Tx) (err error) { job, ok, err = tx.Claim(s.settings.Lease, lanes, kinds...); return err })
			if err != nil && ctx.Err() == nil {
				s.log.Error("no work can be taken from the database", "error", err)
			}
		}
		if err == nil && ok {
			c.take(job.Lane, 1)
			group.Go(func() {
				defer c.take(job.Lane, -1)
				s.runJob(ctx, job, s.settings.Lease)
			})
			continue
		}
		rest := idlePause
		if err != nil {
			rest = 5 * idlePause
		}
		select {
		case <-ctx.Done():
		case <-wake:
		case <-c.freed:
		case <-time.After(rest):
		}
	}
}

// work takes and runs jobs of the given kinds, one after the other.
// wake tells that it is worth looking at once.
func (s *Service) work(ctx context.Context, wake <-chan struct{}, lease time.Duration, kinds ...string) {
	for ctx.Err() == nil {
		var job store.Job
		var ok bool
		err := s.store.Tx(ctx, func(tx *store.Tx) (err error) { job, ok, err = tx.Claim(lease, nil, kinds...); return err })
		if err != nil && ctx.Err() == nil {
			s.log.Error("no work can be taken from the database", "error", err)
		}
		if err == nil && ok {
			s.runJob(ctx, job, lease)
			continue
		}
		pause := idlePause
		if err != nil {
			pause = 5 * idlePause
		}
		select {
		case <-ctx.Done():
		case <-wake:
		case <-time.After(pause):
		}
	}
}

// errLater gives work back until a wall time; it is not a failure. Work that only made way was not tried.
type errLater struct {
	at      time.Time
	madeWay bool
}

func (e errLater) Error() string { return "due again at " + e.at.Format(time.RFC3339) }

// mostAttempts is how often work is tried that fails for reasons it does not know itself.
const mostAttempts = 8

// runJob runs one piece of work under its lease, which is lengthened meanwhile; when it is lost, the work is broken off.
func (s *Service) runJob(ctx context.Context, job store.Job, lease time.Duration) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	done := make(chan struct{})
	var keeper sync.WaitGroup
	keeper.Go(func() {
		ticker := time.NewTicker(lease / 4)
		defer ticker.Stop()
		for {
			select {
			case <-done:
				return
			case <-ticker.C:
				if err := s.store.Tx(ctx, func(tx *store.Tx) error { return tx.Extend(job, lease) }); errors.Is(err, store.ErrLeaseLost) {
					cancel(err)
				}
			}
		}
	})
	err := s.handle(ctx, job)
	close(done)
	keeper.Wait()
	s.putDown(ctx, job, err)
}

func (s *Service) handle(ctx context.Context, job store.Job) error {
	switch job.Kind {
	case store.JobSync, store.JobUrgent:
		return s.runSync(ctx, job)
	case "check":
		return s.runCheck(ctx, job)
	case store.JobNotify:
		return s.runNotify(ctx, job)
	case store.JobLook:
		return s.runLook(ctx, job)
	case store.JobAlias:
		return s.runAlias(ctx, job)
	case store.JobGlance:
		return s.runGlance(ctx, job)
	case store.JobTell:
		return s.runTell(ctx, job)
	case store.JobRows:
		return s.runRows(ctx, job)
	case "sequence":
		return s.Logbook.RunSequence(ctx, job)
	}
	return fmt.Errorf("work of kind %q is not known", job.Kind)
}

// putDown says what becomes of work after it was run.
func (s *Service) putDown(ctx context.Context, job store.Job, err error) {
	var later errLater
	outcome := "done"
	finish := func(tx *store.Tx) error { return tx.Finish(job, "") }
	switch {
	case errors.Is(err, store.ErrLeaseLost) || errors.Is(context.Cause(ctx), store.ErrLeaseLost):
		s.log.Warn("work was taken over by another instance", "kind", job.Kind, "subject", job.Subject)
		return
	case errors.As(err, &later):
		outcome = "later"
		finish = func(tx *store.Tx) error { return tx.Again(job, later.at, "") }
		if later.madeWay {
			finish = func(tx *store.Tx) error { return tx.Later(job, later.at) }
		}
	case ctx.Err() != nil: // shutting down: free for others at once
		outcome = "put down"
		finish = func(tx *store.Tx) error { return tx.Again(job, s.wall.Now(), "the service was stopped") }
	case err != nil && job.Attempts < mostAttempts:
		outcome = "failed"
		finish = func(tx *store.Tx) error {
			return tx.Again(job, s.wall.Now().Add(outcall.Backoff(job.Attempts)), err.Error())
		}
	case err != nil:
		outcome = "given up"
		finish = func(tx *store.Tx) error { return s.giveUp(tx, job, err) }
	}
	if outcome == "failed" || outcome == "given up" {
		s.log.Warn("work did not end well", "kind", job.Kind, "subject", job.Subject, "outcome", outcome, "error", err)
	}
	s.metrics.jobs.WithLabelValues(job.Kind, outcome).Inc()
	if err := s.store.Tx(context.WithoutCancel(ctx), finish); err != nil && !errors.Is(err, store.ErrLeaseLost) {
		s.log.Error("work could not be put down; it will be taken up again when its lease ends", "kind", job.Kind, "subject", job.Subject, "error", err)
	}
}

func (s *Service) giveUp(tx *store.Tx, job store.Job, err error) error {
	if job.Kind == store.JobSync || job.Kind == store.JobUrgent {
		if err := tx.EndSync(job.Subject, store.SyncFailed, "Given up after several attempts: "+err.Error(), nil); err != nil {
			return err
		}
	}
	return tx.Finish(job, err.Error())
}
