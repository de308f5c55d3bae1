package delegation

import "time"

// fraction is the part of the time for which something has been wrong that passes until it is looked at again.
const fraction = 10

// Due is when a domain should be looked at again: soon while something settles, and just after all should have settled. What is
// wrong is looked at ever more seldom the longer nobody mends it, for its nameservers' sake. since is from when on it has stood so;
// settling and settled are the shortest and the longest time between two looks.
func (r Report) Due(since time.Time, settling, settled time.Duration) time.Time {
	interval := settling
	switch r.Verdict {
	case Settled:
		interval = settled
	case Settling:
	default:
		interval = max(settling, min(r.CheckedAt.Sub(since)/fraction, settled))
	}
	due := r.CheckedAt.Add(interval)
	if r.SettlesBy != nil && r.SettlesBy.After(r.CheckedAt) && r.SettlesBy.Before(due) {
		return *r.SettlesBy
	}
	return due
}
