package accounts

import (
	"context"
	"sync"
	"time"

	"beacon/clock"
	"beacon/looking"
	"beacon/store"
)

// pace keeps the requests of one account within what its provider allows, for the work of all instances: time at the account is reserved
// in the database, a little at once, and each request has its moment in it. A moment that has passed is not made up for: a process that was
// stopped for a while sends nothing in a burst.
type pace struct {
	db      *store.Store
	account uint64

	mu      sync.Mutex
	spacing time.Duration // between two requests; 0 where the provider does not say how many it allows
	until   time.Duration // nothing is sent before, since the machine was started
	next    time.Duration // the first moment that is reserved and not used, since the machine was started
	end     time.Duration // of what is reserved
	asked   time.Duration // when other instances were last asked whether they were slowed down
	untold  bool          // this instance was slowed down, and others do not know
}

// heardFor is for how long it is believed that no other instance was slowed down, where requests have no pace.
const heardFor = time.Second

// The pace leaves a margin, since requests do not arrive exactly when they are sent: with four fifths of what is allowed, and moments that
// are not missed by more than the tolerance, no sliding second has more requests than a second may.
const (
	paceMargin  = 0.8
	reservation = 200 * time.Millisecond
	paceLate    = 20 * time.Millisecond
)

// Wait returns when a request may be made.
func (p *pace) Wait(ctx context.Context) error {
	for {
		pause, at, err := p.turn(ctx)
		if err != nil {
			return err
		}
		if err := clock.Pause(ctx, pause); err != nil {
			return err
		}
		if at == 0 || clock.Boot()-at <= p.tolerance() {
			return nil
		}
	}
}

func (p *pace) tolerance() time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	return max(p.spacing/8, paceLate)
}

// turn takes the next moment, and returns how long to wait for it. It is zero where requests have no pace.
func (p *pace) turn(ctx context.Context) (pause, at time.Duration, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := clock.Boot()
	if p.spacing == 0 {
		if p.account != 0 && (p.untold || now-p.asked > heardFor) {
			if err := p.share(ctx); err != nil {
				return 0, 0, err
			}
		}
		return max(p.until-clock.Boot(), 0), 0, nil
	}
	if late := now - max(p.spacing/8, paceLate); p.next < late { // what has passed is lost
		p.next += (late - p.next + p.spacing - 1) / p.spacing * p.spacing
	}
	if p.next >= p.end || p.next < p.until {
		if err := p.reserve(ctx, p.until-now); err != nil {
			return 0, 0, err
		}
		now = clock.Boot()
	}
	at = p.next
	p.next += p.spacing
	return max(at-now, 0), at, nil
}

// reserve reserves time for the next requests, from no earlier than slow from now.
func (p *pace) reserve(ctx context.Context, slow time.Duration) error {
	n := max(1, reservation/p.spacing)
	var from time.Time
	err := p.db.Tx(looking.Off(ctx), func(tx *store.Tx) (err error) {
		from, err = tx.ReservePace(p.account, n*p.spacing, max(slow, 0))
		return err
	})
	if err != nil {
		return err
	}
	p.next = clock.Boot() + from.Sub(p.db.Now())
	p.end = p.next + n*p.spacing
	return nil
}

// share tells other instances that the provider slowed this one down, and hears whether it did so to them.
func (p *pace) share(ctx context.Context) error {
	slow := p.until - clock.Boot()
	var from time.Time
	err := p.db.Tx(looking.Off(ctx), func(tx *store.Tx) (err error) {
		if p.untold && slow > 0 {
			from, err = tx.ReservePace(p.account, 0, slow)
		} else {
			from, err = tx.Pace(p.account)
		}
		return err
	})
	if err != nil {
		return err
	}
	p.asked, p.untold = clock.Boot(), false
	p.until = max(p.until, p.asked+from.Sub(p.db.Now()))
	return nil
}

// Slow keeps everybody from the account for a while.
func (p *pace) Slow(d time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if until := clock.Boot() + d; until > p.until {
		p.until, p.untold = until, true
	}
}

// paceOf returns the pace of an account, which all of its drivers share.
func (s *Accounts) paceOf(a store.Account, perSecond float64) *pace {
	s.pacesMu.Lock()
	defer s.pacesMu.Unlock()
	id := baseOf(a)
	p := s.paces[id]
	if p == nil {
		p = &pace{db: s.store, account: id}
		s.paces[id] = p
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.spacing = 0; perSecond > 0 && id != 0 { // an account that is only tried has none yet
		p.spacing = time.Duration(float64(time.Second) / (perSecond * paceMargin))
	}
	return p
}
