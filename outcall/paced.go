package outcall

import (
	"context"
	"math/rand/v2"
	"time"
)

// Pace keeps an account's requests within what the other side allows. It is shared by all drivers of the account.
type Pace interface {
	// Wait returns when a request may be made.
	Wait(ctx context.Context) error
	// Slow is told that requests were refused for being too many, and how long to leave the account alone.
	Slow(d time.Duration)
}

// MostReads is how often one read is tried.
const MostReads = 5

// InTurn makes a request in its turn, up to tries times within the context's time: again where it was refused for being one of too many, or
// broke off.
func InTurn(ctx context.Context, pace Pace, tries int, do func() error) error {
	for try := 1; ; try++ {
		if err := pace.Wait(ctx); err != nil {
			return &Error{Kind: Limited, Outcome: NotSent, Asked: "waiting for a turn", Said: err.Error()}
		}
		err := do()
		kind := KindOf(err)
		wait := max(RetryAfterOf(err), jittered(try))
		if kind == Limited {
			pace.Slow(wait)
		}
		if kind != Limited && kind != Unavailable || try >= tries || ctx.Err() != nil {
			return err
		}
		if deadline, ok := ctx.Deadline(); ok && time.Until(deadline) < wait {
			return err
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return err
		}
	}
}

// jittered is how long to wait before another try, so that many do not come back at once.
func jittered(try int) time.Duration {
	base := 40 * time.Millisecond << min(try, 6)
	return base/2 + time.Duration(rand.Int64N(int64(base)))
}
