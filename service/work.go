package service

import (
	"context"
	stdsync "sync"
	"time"

	"beacon/service/apply"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/store"
)

// Run does background work until ctx ends, and returns when the work in hand has been put down. Several instances may
// run on one database: each piece of work is leased.
func (s *Service) Run(ctx context.Context) {
	var group stdsync.WaitGroup
	if s.settings.WorldClock != "" {
		group.Go(func() {
			s.world.KeepFollowing(ctx, s.http, s.settings.WorldClock, time.Second, func(err error) { s.log.Warn("the world clock cannot be followed", "error", err) })
		})
	}
	if err := s.Zones.CatchUpRows(ctx); err != nil && ctx.Err() == nil {
		s.log.Error("the rows for searching could not be looked at", "error", err)
	}
	if err := s.Syncs.ScheduleLooks(ctx); err != nil && ctx.Err() == nil {
		s.log.Error("looking for drift could not be scheduled", "error", err)
	}
	if err := s.Checks.ScheduleGlances(ctx); err != nil && ctx.Err() == nil {
		s.log.Error("brief looks could not be scheduled", "error", err)
	}
	group.Go(func() { s.Jobs.Run(ctx) })
	group.Go(func() { s.Logbook.Listen(ctx) })
	if s.settings.Primary.Listen != "" {
		group.Go(func() { s.Secondaries.Serve(ctx) })
	}
	if s.settings.Watch.Folder != "" {
		group.Go(func() { s.Apply.Follow(ctx) })
	}
	group.Wait()
}

// employ registers what runs in the background, and by how many.
func (s *Service) employ() {
	n := s.settings.Workers
	syncs := jobs.Handler{Run: s.Syncs.RunSync, GaveUp: sync.GaveUpSync}
	for kind, h := range map[string]jobs.Handler{
		store.JobSync: syncs, store.JobUrgent: syncs, store.JobCheck: {Run: s.Checks.RunCheck}, store.JobNotify: {Run: s.Secondaries.RunNotify}, store.JobLook: {Run: s.Syncs.RunLook},
		store.JobAlias: {Run: s.Hosts.RunAlias}, store.JobGlance: {Run: s.Checks.RunGlance}, store.JobTell: {Run: s.Notify.RunTell}, store.JobRows: {Run: s.Zones.RunRows},
		store.JobAct:      {Run: s.Acts.Run, GaveUp: s.Acts.GaveUp},
		store.JobFollow:   {Run: s.Apply.RunFollow, GaveUp: apply.GaveUpFollow},
		store.JobSequence: {Run: s.Logbook.RunSequence},
	} {
		s.Jobs.Handle(kind, h)
	}
	s.Jobs.Employ(jobs.Workers{Kinds: []string{store.JobSync}, Most: 8 * n, PerLane: n})
	s.Jobs.Employ(jobs.Workers{Kinds: []string{store.JobCheck, store.JobAlias, store.JobRows}, Most: n, PerLane: n})
	s.Jobs.Employ(jobs.Workers{Kinds: []string{store.JobAct}, Most: 8, PerLane: n})
	s.Jobs.Employ(jobs.Workers{Kinds: []string{store.JobUrgent}, Most: 16, PerLane: 2})
	s.Jobs.Employ(jobs.Workers{Kinds: []string{store.JobLook, store.JobNotify, store.JobTell, store.JobFollow}, Most: 32, PerLane: 2})
	s.Jobs.Employ(jobs.Workers{Kinds: []string{store.JobGlance}, Most: 1, PerLane: 1})
	s.Jobs.Employ(jobs.Workers{Kinds: []string{store.JobSequence}, Most: 1, PerLane: 1, Lease: min(s.settings.Lease, logbook.SequenceLease)})
}
