package accounts

import (
	"context"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"beacon/clock"
	"beacon/store"
)

// pace keeps the requests of one account within what its provider allows, for all work of this instance.
type pace struct {
	limiter *rate.Limiter
	mu      sync.Mutex
	until   time.Time
}

// Wait returns when a request may be made.
func (p *pace) Wait(ctx context.Context) error {
	p.mu.Lock()
	wait := time.Until(p.until)
	p.mu.Unlock()
	if wait > 0 {
		if err := clock.Pause(ctx, wait); err != nil {
			return err
		}
	}
	return p.limiter.Wait(ctx)
}

// Slow keeps everybody from the account for a while.
func (p *pace) Slow(d time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if until := time.Now().Add(d); until.After(p.until) {
		p.until = until
	}
}

// paceOf gives the pace of an account, which all of its drivers share.
func (s *Accounts) paceOf(a store.Account, perSecond float64) *pace {
	s.pacesMu.Lock()
	defer s.pacesMu.Unlock()
	p := s.paces[a.ID]
	if p == nil {
		p = &pace{limiter: rate.NewLimiter(rate.Inf, 1)}
		s.paces[a.ID] = p
	}
	if perSecond > 0 {
		p.limiter.SetLimit(rate.Limit(perSecond))
		p.limiter.SetBurst(max(1, int(perSecond/4)))
	}
	return p
}
