// Package clock keeps the two kinds of time apart. World is the time in which TTLs run and schedules stand; in a
// practice world it may run faster than the wall's. Wall is the time of time-outs, leases, tokens and TLS.
//
// They are two types so that neither can be handed where the other is meant.
package clock

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"
)

// Wall returns this machine's time. The zero value is ready.
type Wall struct{}

// Now is the wall's time in UTC, to the microsecond, as the store keeps it.
func (Wall) Now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

// World returns simulated time. The zero value runs with the wall; Follow ties it to a clock elsewhere. It is safe for
// concurrent use.
type World struct {
	mu     sync.RWMutex
	ties   tie
	source func() time.Time // the wall's time; nil for this machine's
}

// tie says that the world's clock showed World when the wall's showed Wall, and runs Rate times as fast.
type tie struct {
	Wall  time.Time `json:"wall"`
	World time.Time `json:"world"`
	Rate  float64   `json:"rate"`
}

// Now is the world's time in UTC, to the microsecond.
func (w *World) Now() time.Time {
	w.mu.RLock()
	source := w.source
	w.mu.RUnlock()
	if source == nil {
		source = time.Now
	}
	return w.At(source())
}

// By has the world run by another clock on the wall than this machine's.
func (w *World) By(source func() time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.source = source
}

// At returns the world's time at a moment of the wall's.
func (w *World) At(wall time.Time) time.Time {
	w.mu.RLock()
	defer w.mu.RUnlock()
	if w.ties.Rate == 0 {
		return wall.UTC().Truncate(time.Microsecond)
	}
	passed := time.Duration(float64(wall.Sub(w.ties.Wall)) * w.ties.Rate)
	return w.ties.World.Add(passed).UTC().Truncate(time.Microsecond)
}

// WallAt returns the moment of the wall's clock at which the world's will show world.
func (w *World) WallAt(world time.Time) time.Time {
	w.mu.RLock()
	defer w.mu.RUnlock()
	if w.ties.Rate == 0 {
		return world.UTC()
	}
	passed := time.Duration(float64(world.Sub(w.ties.World)) / w.ties.Rate)
	return w.ties.Wall.Add(passed).UTC()
}

// Rate is how many world seconds pass in one of the wall's.
func (w *World) Rate() float64 {
	w.mu.RLock()
	defer w.mu.RUnlock()
	if w.ties.Rate == 0 {
		return 1
	}
	return w.ties.Rate
}

// Follow sets the clock by the one at url, which answers a GET with the JSON of a tie. The other clock is taken to
// run by the wall of this machine.
func (w *World) Follow(ctx context.Context, client *http.Client, url string) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return fmt.Errorf("setting the world clock: %w", err)
	}
	res, err := client.Do(req)
	if err != nil {
		return fmt.Errorf("setting the world clock: %w", err)
	}
	defer res.Body.Close()
	var t tie
	if err := json.NewDecoder(io.LimitReader(res.Body, 4096)).Decode(&t); err != nil || res.StatusCode != http.StatusOK || t.Rate <= 0 {
		return fmt.Errorf("setting the world clock: %s answered %s and no time", url, res.Status)
	}
	w.mu.Lock()
	w.ties = t
	w.mu.Unlock()
	return nil
}

// KeepFollowing repeats Follow every interval of the wall's time until ctx ends, and hands failures to report.
func (w *World) KeepFollowing(ctx context.Context, client *http.Client, url string, interval time.Duration, report func(error)) {
	ticker := time.NewTicker(interval)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			once, cancel := context.WithTimeout(ctx, interval)
			if err := w.Follow(once, client, url); err != nil && ctx.Err() == nil {
				report(err)
			}
			cancel()
		}
	}
}
