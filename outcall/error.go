// Package outcall makes requests to the HTTP interfaces of providers and registrars, one at a time, and says exactly
// what became of each: what kind of failure it was and, independently, whether the thing asked for may have been done.
// It never retries; whoever knows what a repetition would mean does.
package outcall

import (
	"errors"
	"fmt"
	"time"

	"beacon/reach"
)

// Kind returns what kind of failure it was.
type Kind string

// The kinds of failures.
const (
	Refused      Kind = "refused"      // the other side understood and will not: asking again does not help
	Unauthorised Kind = "unauthorised" // the credential is wrong or may not do this
	NotFound     Kind = "not found"
	Conflict     Kind = "conflict"    // it is there already, or has changed meanwhile
	Limited      Kind = "limited"     // too many requests; RetryAfter says how long to wait
	Unavailable  Kind = "unavailable" // not reached, broken off, or an error of the other side
)

// Outcome reports whether what was asked for has been done.
type Outcome string

// The outcomes. After Unclear, the state at the other side must be read before anything is repeated.
const (
	NotSent Outcome = "not sent"
	NotDone Outcome = "not done"
	Unclear Outcome = "unclear"
)

// Error is a failed request.
type Error struct {
	Kind       Kind
	Outcome    Outcome
	RetryAfter time.Duration // with Limited, and where the other side gives it
	Account    string        // whose credential was used
	Asked      string        // method and path
	Said       string        // the other side's words, secrets blanked; or what broke
}

func (e *Error) Error() string {
	text := fmt.Sprintf("%s: %s (%s, %s)", e.Asked, e.Said, e.Kind, e.Outcome)
	if e.Account != "" {
		text = "account " + e.Account + ": " + text
	}
	return text
}

// KindOf returns the kind of a failed request, or "" where err is none.
func KindOf(err error) Kind {
	var e *Error
	if errors.As(err, &e) {
		return e.Kind
	}
	return ""
}

// OutcomeOf returns the outcome behind an error. An error of another sort leaves it unclear.
func OutcomeOf(err error) Outcome {
	var e *Error
	if errors.As(err, &e) {
		return e.Outcome
	}
	return Unclear
}

// RetryAfterOf returns how long the other side asked to wait, or zero.
func RetryAfterOf(err error) time.Duration {
	var e *Error
	if errors.As(err, &e) {
		return e.RetryAfter
	}
	return 0
}

// NotReached returns the kind of an error of connecting: Refused where the settings do not allow the address, which does not pass.
func NotReached(err error) Kind {
	if errors.Is(err, reach.ErrRefused) {
		return Refused
	}
	return Unavailable
}
