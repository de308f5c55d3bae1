package outcall

import (
	"context"
	"time"

	"beacon/clock"
)

type (
	deadlineKey struct{}
	scopeKey    struct{}
)

// ScopeOf returns what a request is part of, such as a sync: the same for every attempt at the same change. It is empty where that is not said.
func ScopeOf(ctx context.Context) string {
	scope, _ := ctx.Value(scopeKey{}).(string)
	return scope
}

// Sending returns a context for one request that changes something: it does not end with ctx, since what became of a request that is broken
// off is unclear, but after the time that is left. A request is not sent at all once that has passed, by a clock that runs while this process
// or machine is stopped: another process may have taken over what it is about. scope names what the request is part of, such as a sync.
func Sending(ctx context.Context, left time.Duration, scope string) (context.Context, context.CancelFunc) {
	ctx = context.WithValue(context.WithoutCancel(ctx), deadlineKey{}, clock.Boot()+left)
	ctx = context.WithValue(ctx, scopeKey{}, scope)
	return context.WithTimeout(ctx, left)
}

// TooLate returns an error where the time of a request has passed. It is asked right before sending.
func TooLate(ctx context.Context) error {
	if by, ok := ctx.Value(deadlineKey{}).(time.Duration); ok && clock.Boot() >= by {
		return &Error{Kind: Unavailable, Outcome: NotSent, Asked: "sending in time", Said: "this instance was held up; its time for the request has passed"}
	}
	return nil
}
