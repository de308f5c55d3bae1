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
	"strings"
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

// Follow sets the clock by the one at url, which answers a GET with the JSON of a tie, and reports whether it runs differently since. The
// other clock is taken to run by the wall of this machine.
func (w *World) Follow(ctx context.Context, client *http.Client, url string) (changed bool, err error) {
	return w.follow(ctx, client, http.MethodGet, url, "")
}

// Skip has the clock at url skip to a later world time, and follows it. That clock takes a POST with skip_to and answers as it does to a GET.
func (w *World) Skip(ctx context.Context, client *http.Client, url string, to time.Time) error {
	_, err := w.follow(ctx, client, http.MethodPost, url, fmt.Sprintf(`{"skip_to":%q}`, to.UTC().Format(time.RFC3339Nano)))
	return err
}

func (w *World) follow(ctx context.Context, client *http.Client, method, url, body string) (changed bool, err error) {
	req, err := http.NewRequestWithContext(ctx, method, url, strings.NewReader(body))
	if err != nil {
		return false, fmt.Errorf("setting the world clock: %w", err)
	}
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	res, err := client.Do(req)
	if err != nil {
		return false, fmt.Errorf("setting the world clock: %w", err)
	}
	defer res.Body.Close()
	var t tie
	if err := json.NewDecoder(io.LimitReader(res.Body, 4096)).Decode(&t); err != nil || res.StatusCode != http.StatusOK || t.Rate <= 0 {
		return false, fmt.Errorf("setting the world clock: %s answered %s and no time", url, res.Status)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if t.Wall.Before(w.ties.Wall) { // an answer that was overtaken by a skip
		return false, nil
	}
	changed = !t.Wall.Equal(w.ties.Wall) || !t.World.Equal(w.ties.World) || t.Rate != w.ties.Rate
	w.ties = t
	return changed, nil
}

// KeepFollowing repeats Follow every interval of the wall's time until ctx ends. Whenever the clock was found to run differently, and once
// more an interval later for what was going on then, changed is called; failures go to report.
func (w *World) KeepFollowing(ctx context.Context, client *http.Client, url string, interval time.Duration, changed func(context.Context) error, report func(error)) {
	again := false
	ticker := time.NewTicker(interval)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			once, cancel := context.WithTimeout(ctx, interval)
			now, err := w.Follow(once, client, url)
			if err == nil && (now || again) {
				err = changed(once)
			}
			again = now || err != nil && again
			if err != nil && ctx.Err() == nil {
				report(err)
			}
			cancel()
		}
	}
}
