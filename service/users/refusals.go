package users

import (
	"sync"
	"time"
)

// refusalPause is how long the same refusal leaves no further line in the logbook, real time.
const refusalPause = time.Minute

// mostRefusals bounds how many refusals are remembered.
const mostRefusals = 10_000

// refusals remembers what was refused lately. It is safe for concurrent use.
type refusals struct {
	mu  sync.Mutex
	all map[string]time.Time
}

// first reports whether a refusal is the first of its kind within the pause. Where too many differ, none is until some are forgotten.
func (r *refusals) first(what string, now time.Time) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if at, ok := r.all[what]; ok && now.Sub(at) < refusalPause {
		return false
	}
	if r.all == nil {
		r.all = map[string]time.Time{}
	}
	if len(r.all) >= mostRefusals {
		for what, at := range r.all {
			if now.Sub(at) >= refusalPause {
				delete(r.all, what)
			}
		}
		if len(r.all) >= mostRefusals {
			return false
		}
	}
	r.all[what] = now
	return true
}
