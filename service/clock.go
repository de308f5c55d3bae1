package service

import (
	"context"
	"time"

	"beacon/core/access"
	"beacon/wire"
)

// How long one step of the simulated clock waits for the work that is due, real time, and how far one may lead.
const (
	stepPatience = 10 * time.Second
	longestSkip  = 10 * 366 * 24 * time.Hour
)

// WorldNow is simulated time, and the rate at which it runs.
func (s *Service) WorldNow() (time.Time, float64) { return s.world.Now(), s.world.Rate() }

// StepClock has simulated time skip to the next moment at which work is due, at most to until, and waits until that work is done. Steps one
// after the other lead through everything that is due before until, in the order in which it is due.
//
// The instance that is asked has to be the only one: others follow the clock a second later.
func (s *Service) StepClock(ctx context.Context, by access.Caller, until time.Time) (wire.ClockNow, error) {
	if err := wire.Permit(by, access.Operate, access.Everything); err != nil {
		return wire.ClockNow{}, err
	}
	if s.settings.WorldClock == "" {
		return wire.ClockNow{}, wire.Problemf(wire.Blocked, "This service runs on real time, which cannot be skipped. Only the demo has a simulated clock.")
	}
	if until.IsZero() || until.Sub(s.world.Now()) > longestSkip {
		return wire.ClockNow{}, wire.Problemf(wire.Invalid, "until: write a simulated time within ten years, such as %s.", s.world.Now().Add(24*time.Hour).UTC().Format(time.RFC3339))
	}
	ctx, cancel := context.WithTimeout(ctx, stepPatience)
	defer cancel()
	next, atRest, err := s.Jobs.Rest(ctx)
	if err != nil {
		return wire.ClockNow{}, err
	}
	if next.IsZero() || next.After(until) {
		next = until
	}
	if atRest && next.After(s.world.Now()) {
		if err := s.world.Skip(ctx, s.http, s.settings.WorldClock, next); err != nil {
			return wire.ClockNow{}, wire.Problemf(wire.UpstreamFailed, "The simulated clock cannot be skipped: %s. Is the practice world running?", err)
		}
		if err := s.Jobs.Retime(ctx); err != nil {
			return wire.ClockNow{}, err
		}
	}
	if _, atRest, err = s.Jobs.Rest(ctx); err != nil {
		return wire.ClockNow{}, err
	}
	return wire.ClockNow{World: s.world.Now(), Rate: s.world.Rate(), Reached: atRest && !s.world.Now().Before(until)}, nil
}
