package diff

import (
	"slices"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
)

// Last returns the last step at each key.
func Last(steps change.List) map[record.Key]change.Step {
	last := map[record.Key]change.Step{}
	for _, step := range steps {
		last[step.Key()] = step
	}
	return last
}

// Unshown returns the steps that were confirmed and that a believed read does not show, as texts, sorted. sent is what was placed, seen what is live with sets as
// they were sent.
func Unshown(done change.List, sent, seen record.Contents) (keys []string) {
	for key, step := range Last(done) {
		now := seen.Get(key)
		switch {
		case step.After.IsZero() && now.Equal(step.Before) && !now.IsZero(), !step.After.IsZero() && !now.Equal(step.After) && sent.Get(key).Equal(step.After):
			keys = append(keys, key.String())
		}
	}
	slices.Sort(keys)
	return keys
}

// Unsure returns doubts about a read that does not show what was written: sets that were removed, and sets that the provider may have written in its own way.
func Unsure(done change.List, placed []Placed, live record.Contents) (list []Doubt) {
	last := Last(done)
	for key, step := range last {
		if now := live.Get(key); step.After.IsZero() && !now.IsZero() {
			list = append(list, Doubt{Key: key, Read: now})
		}
	}
	for _, p := range placed {
		key := p.Sent.Key()
		if now := live.Get(key); p.Read.IsZero() && !now.IsZero() && !now.Equal(p.Sent) {
			list = append(list, Doubt{Key: key, Known: p.Sent, Read: now, Form: true, Was: last[key].Before})
		}
	}
	return list
}

// Found returns what became of a request that broke off, by what is live afterwards: the steps that were done, what was left half way, and the names
// that may be without an answer. A set that is as the request would leave it was written by it; so was one that has changed and holds its data under another
// TTL, as some providers set it.
func Found(steps change.List, live record.Contents) (done change.List, halves []Placed, broken []dnsname.Name) {
	for _, step := range steps {
		now := live.Get(step.Key())
		if now.Equal(step.After) || !now.Equal(step.Before) && now.SameData(step.After) {
			done = append(done, step)
			continue
		}
		if !now.Equal(step.Before) && step.Between(now) {
			halves = append(halves, Placed{Sent: now, Read: now})
		}
		broken = append(broken, step.Key().Name)
	}
	return done, halves, broken
}

// Forms returns the placed sets of which it was not known how the provider returns them and now is, and whether every set that was not known is as it was sent.
func Forms(placed []Placed, live record.Contents) (read []Placed, asSent bool) {
	asSent = true
	for _, p := range placed {
		if !p.Read.IsZero() {
			continue
		}
		now := live.Get(p.Sent.Key())
		asSent = asSent && now.Equal(p.Sent)
		if !now.IsZero() {
			read = append(read, Placed{Sent: p.Sent, Read: now})
		}
	}
	return read, asSent
}

// Returned returns placed sets as the provider returned them when they were written.
func Returned(placed []Placed) record.Contents {
	sets := make([]record.Set, len(placed))
	for i, p := range placed {
		if sets[i] = p.Read; p.Read.IsZero() {
			sets[i] = p.Sent
		}
	}
	return record.ContentsOf(sets...)
}

// PlacedBy returns what is placed once steps were done, sorted; how the provider returns it is not known yet.
func PlacedBy(placed []Placed, done change.List) []Placed {
	last := Last(done)
	list := slices.DeleteFunc(slices.Clone(placed), func(p Placed) bool { _, there := last[p.Sent.Key()]; return there })
	for _, step := range last {
		if !step.After.IsZero() {
			list = append(list, Placed{Sent: step.After})
		}
	}
	slices.SortFunc(list, func(a, b Placed) int { return a.Sent.Key().Compare(b.Sent.Key()) })
	return list
}
