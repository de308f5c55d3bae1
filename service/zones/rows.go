package zones

import (
	"context"

	"beacon/service/jobs"
	"beacon/store"
)

// CatchUpRows asks for the rows of zones to be brought up to their revisions, where they are not: after an upgrade, say.
func (s *Zones) CatchUpRows(ctx context.Context) error {
	return s.store.Tx(ctx, func(tx *store.Tx) error {
		ids, err := tx.RowsBehind()
		if err != nil {
			return err
		}
		for _, id := range ids {
			if err := jobs.Enqueue(tx, store.JobRows, id, s.store.Now()); err != nil {
				return err
			}
		}
		return nil
	})
}

// RunRows brings the rows for searching up to a zone's revision, piece by piece. A revision that is accepted meanwhile is
// followed before the work ends.
func (s *Zones) RunRows(ctx context.Context, job store.Job) error {
	for {
		var plan store.RowsPlan
		done := false
		err := s.store.Tx(ctx, func(tx *store.Tx) (err error) {
			if plan, done, err = tx.PlanRows(job.Subject); err == nil && done {
				err = jobs.Finish(tx, job) // in one transaction with having looked
			}
			return err
		})
		if store.IsMissing(err) {
			return nil
		}
		if err != nil || done {
			return err
		}
		for _, piece := range plan.Pieces() {
			if err := s.store.Tx(ctx, func(tx *store.Tx) error { return tx.MoveRows(piece) }); err != nil {
				return err
			}
		}
		if err := s.store.Tx(ctx, func(tx *store.Tx) error { return tx.RowsShow(plan) }); err != nil {
			return err
		}
	}
}
