package service

import (
	"context"
	stdsync "sync"
	"time"

	"beacon/core/access"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/store"
)

// Run does background work until ctx ends, and returns when the work in hand has been put down. Several instances may
// run on one database: each piece of work is leased.
func (s *Service) Run(ctx context.Context) {
	s.begin(ctx)
	var group stdsync.WaitGroup
	if s.settings.WorldClock != "" {
		group.Go(func() {
			s.world.KeepFollowing(ctx, s.http, s.settings.WorldClock, time.Second, s.Jobs.Retime, func(err error) { s.log.Warn("the world clock cannot be followed", "error", err) })
		})
	}
	if err := s.Zones.CatchUpRows(ctx); err != nil && ctx.Err() == nil {
		s.log.Error("the rows for searching could not be looked at", "error", err)
	}
	if err := s.Syncs.ScheduleLooks(ctx); err != nil && ctx.Err() == nil {
		s.log.Error("looking for drift could not be scheduled", "error", err)
	}
	if err := s.Checks.ScheduleBriefChecks(ctx); err != nil && ctx.Err() == nil {
		s.log.Error("brief looks could not be scheduled", "error", err)
	}
	err := s.store.Tx(ctx, func(tx *store.Tx) error {
		for _, kind := range []string{store.JobSweep, store.JobPrune, store.JobSample} {
			if err := jobs.Enqueue(tx, kind, 1, s.store.Now()); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil && ctx.Err() == nil {
		s.log.Error("keeping the tables in order could not be scheduled", "error", err)
	}
	group.Go(func() { s.watchHealth(ctx) })
	group.Go(func() { s.Jobs.Run(ctx) })
	group.Go(func() { s.Hosts.Spread(ctx) })
	group.Go(func() { s.Logbook.Listen(ctx) })
	if s.settings.Primary.Listen != "" {
		group.Go(func() { s.Secondaries.Serve(ctx) })
	}
	if s.settings.Watch.Folder != "" {
		group.Go(func() { s.Apply.Follow(ctx) })
	}
	group.Wait()
}

// begin holds the service before any work begins, where that was asked for or the database went back.
func (s *Service) begin(ctx context.Context) {
	for ctx.Err() == nil {
		err := s.compareMark(ctx)
		if err == nil && s.settings.Hold {
			err = s.Acts.Hold(ctx, access.Service, "The service was started with --hold.")
		}
		if err == nil {
			return
		}
		s.log.Error("it could not be found out whether the service has to be held; nothing begins before", "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

// employ registers what runs in the background, and by how many.
func (s *Service) employ() {
	n := s.settings.Workers
	s.Jobs.AlsoBefore(s.Hosts.Spreads)
	for kind, h := range map[string]jobs.Handler{
		store.JobSync: s.Syncs.RunSync, store.JobUrgent: s.Syncs.RunSync, store.JobSee: s.Hosts.RunSee, store.JobLook: s.Syncs.RunLook, store.JobLookOnce: s.Syncs.RunLookOnce,
		store.JobCheck: s.Checks.RunCheck, store.JobBrief: s.Checks.RunBriefCheck, store.JobAlias: s.Aliases.RunAlias, store.JobHosts: s.Hosts.RunHosts, store.JobRows: s.Zones.RunRows,
		store.JobNotify: s.Secondaries.RunNotify, store.JobTell: s.Notify.RunTell, store.JobAct: s.Acts.Run, store.JobFollow: s.Apply.RunFollow,
		store.JobSequence: s.Logbook.RunSequence, store.JobProbe: s.Accounts.RunProbe, store.JobSweep: s.runSweep, store.JobSample: s.Overview.RunSample, store.JobPrune: s.Jobs.Prune(s.settings.Retention), store.JobWatch: s.Apply.RunWatch,
		store.JobVanished: s.Delegations.RunVanished, store.JobVerify: s.Accounts.RunVerify, store.JobHandover: s.Handover.Run, store.JobGather: s.Gather.Run,
	} {
		s.Jobs.Handle(kind, h)
	}
	looks := []string{store.JobLookOnce, store.JobNotify, store.JobTell, store.JobFollow, store.JobProbe, store.JobVerify, store.JobGather, store.JobSweep, store.JobPrune, store.JobSample}
	if s.settings.Drift.Every > 0 { // an instance that does not look for drift leaves that to others
		looks = append(looks, store.JobLook)
	}
	if s.settings.Watch.Folder != "" {
		looks = append(looks, store.JobWatch, store.JobVanished)
	}
	s.Jobs.Employ(jobs.Workers{Kinds: []string{store.JobSync}, Most: 12 * n, PerLane: n, Lanes: s.Accounts.Lane})
	s.Jobs.Employ(jobs.Workers{Kinds: []string{store.JobCheck, store.JobAlias, store.JobRows}, Most: n, PerLane: n})
	s.Jobs.Employ(jobs.Workers{Kinds: []string{store.JobAct}, Most: 8, PerLane: n})
	s.Jobs.Employ(jobs.Workers{Kinds: []string{store.JobHandover}, Most: 4 * n, PerLane: n})
	s.Jobs.Employ(jobs.Workers{Kinds: []string{store.JobHosts, store.JobSee}, Most: 4, PerLane: n})
	s.Jobs.Employ(jobs.Workers{Kinds: []string{store.JobUrgent}, Most: 24, PerLane: 8, Lanes: s.Accounts.Lane})
	s.Jobs.Employ(jobs.Workers{Kinds: looks, Most: 32, PerLane: 2})
	s.Jobs.Employ(jobs.Workers{Kinds: []string{store.JobBrief}, Most: 1, PerLane: 1})
	s.Jobs.Employ(jobs.Workers{Kinds: []string{store.JobSequence}, Most: 1, PerLane: 1, Lease: min(s.settings.Lease, logbook.SequenceLease)})
}
