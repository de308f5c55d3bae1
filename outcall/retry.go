package outcall

import (
	"time"
)

// Passing reports whether a failure of an outside request may be gone at the next try.
func Passing(err error) bool {
	kind := KindOf(err)
	return kind == Unavailable || kind == Limited
}

// Backoff returns how long to wait before another attempt, real time: it grows with the attempts.
func Backoff(attempt int) time.Duration {
	return min(time.Duration(attempt*attempt)*250*time.Millisecond, 15*time.Second)
}
