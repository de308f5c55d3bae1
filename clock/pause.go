package clock

import (
	"context"
	"time"
)

// Pause waits for d of real time, or returns the reason why the waiting ended early.
func Pause(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}
