package service

import (
	"context"
	"fmt"
	"time"

	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/store"
)

// How often work without an owner is looked for, real time, and how much of it is taken up at once.
const (
	sweepEvery  = time.Minute
	mostOrphans = 200
)

// runSweep takes up work that nobody has: syncs and acts that have not ended and whose job has, and recurring work that ended.
func (s *Service) runSweep(ctx context.Context, job store.Job) error {
	err := s.store.Tx(ctx, func(tx *store.Tx) error {
		if err := jobs.Hold(tx, job); err != nil {
			return err
		}
		orphans, err := tx.Orphans(mostOrphans)
		if err != nil {
			return err
		}
		for _, o := range orphans {
			if err := jobs.EnqueueIn(tx, o.Kind, o.Subject, o.Lane, s.store.Now()); err != nil {
				return err
			}
			if err := logbook.Log(tx, "service", "job.taken-up", o.Kind, fmt.Sprintf("%s %d had no owner", o.Kind, o.Subject)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return jobs.Later{At: s.store.Now().Add(sweepEvery), Worked: true}
}
