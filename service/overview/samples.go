package overview

import (
	"context"
	"time"

	"beacon/service/jobs"
	"beacon/store"
)

// How often it is measured, simulated time, at least how far apart, real time, and for how long that is kept.
const (
	sampleEvery  = time.Hour
	leastBetween = 15 * time.Second
	samplesKept  = 31 * 24 * time.Hour
)

// RunSample measures once, and is due again an hour later.
func (s *Overview) RunSample(ctx context.Context, job store.Job) error {
	err := s.store.Tx(ctx, func(tx *store.Tx) error {
		if err := jobs.Hold(tx, job); err != nil {
			return err
		}
		return tx.AddSample(s.store.Now().Add(-samplesKept))
	})
	if err != nil {
		return err
	}
	pause := max(time.Duration(float64(sampleEvery)/max(s.world.Rate(), 1)), leastBetween)
	return jobs.Later{At: s.store.Now().Add(pause), Worked: true}
}
