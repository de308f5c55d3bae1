package reporter

import "time"

// Outcome is how a report went.
type Outcome int

// A report was taken, refused by the service, or did not reach it.
const (
	Taken Outcome = iota
	Refused
	Lost
)

// Schedule says when the next report is due.
type Schedule struct {
	Every    time.Duration // between two reports of what has not changed
	failures int
}

// How long it is waited after a report that did not reach the service: that long at first, then twice as long each time, at most as long as between two reports.
const firstRetry = 5 * time.Second

// After returns how long to wait after a report. wait is what the service asked for, 0 for nothing; spread is a random number from 0 to 1, by which machines that
// began together do not report together for ever.
func (s *Schedule) After(o Outcome, wait time.Duration, spread float64) time.Duration {
	next := s.Every
	if o == Lost {
		next = min(firstRetry<<min(s.failures, 10), s.Every)
		s.failures++
	} else {
		s.failures = 0
	}
	next = time.Duration(float64(next) * (0.9 + 0.2*spread))
	return max(next, wait)
}

// Grace is for how long a family may have no address before that is reported: while a line comes up again there is none for a moment.
const Grace = 30 * time.Second

// Family is what is reported of one family over time. The zero value has reported nothing.
type Family struct {
	Addr  string    // that is reported; empty for nothing, None for no address
	Since time.Time // since when there is none; zero while there is one
}

// None is what is reported of a family that has no address any more.
const None = "none"

// See takes what was found at a moment, empty for no address, and returns what is to be reported, and when that is to be looked at again without a change; zero for never. A family that never
// had an address is not reported.
func (f *Family) See(found string, now time.Time) (say string, again time.Time) {
	if found != "" {
		f.Addr, f.Since = found, time.Time{}
		return f.Addr, again
	}
	switch {
	case f.Addr == "" || f.Addr == None:
	case f.Since.IsZero() || now.Before(f.Since): // the clock was set back
		f.Since = now
		again = now.Add(Grace)
	case now.Sub(f.Since) < Grace:
		again = f.Since.Add(Grace)
	default:
		f.Addr = None
	}
	return f.Addr, again
}
