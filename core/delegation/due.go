package delegation

import "time"

// fraction is the part of the time for which a domain has stood as it does that passes until it is looked at again.
const fraction = 10

// seldom is how many times the shortest pause the longest is while something settles.
const seldom = 30

// Due is when a domain should be looked at again: soon after something changed, ever more seldom the longer it stays as it is, for its
// nameservers' sake, and just after all should have settled. since is from when on it has stood so; settling and settled are the shortest
// and the longest time between two looks.
func (r Report) Due(since time.Time, settling, settled time.Duration) time.Time {
	interval := settling
	switch r.Verdict {
	case Settled:
		interval = settled
	case Settling:
		interval = max(settling, min(r.CheckedAt.Sub(since)/fraction, seldom*settling, settled))
	default:
		interval = max(settling, min(r.CheckedAt.Sub(since)/fraction, settled))
	}
	due := r.CheckedAt.Add(interval)
	if r.SettlesBy != nil && r.SettlesBy.After(r.CheckedAt) && r.SettlesBy.Before(due) {
		return *r.SettlesBy
	}
	return due
}
