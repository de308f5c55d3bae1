package sync

import (
	"context"
	"slices"
	"time"

	"beacon/clock"
	"beacon/core/change"
	"beacon/core/diff"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/store"
)

// A read that differs from what is known is made again until so many agree over longer than the provider's lag: fewer where the zone's
// nameservers agree with it.
const (
	mostReads      = 3 // where nameservers cannot tell
	agreeingReads  = 2 // where they serve what was read
	firstReadPause = 50 * time.Millisecond
	lastReadPause  = time.Second
)

// How long a read that is in doubt is made again before it counts as not confirmed, real time.
const (
	syncPatience = 10 * time.Second
	lookPatience = 3 * time.Second
)

// errUnconfirmed is a read that is not believed.
type errUnconfirmed struct {
	finding finding.Finding
}

func (e errUnconfirmed) Error() string { return e.finding.Message }

func writtenAt(p store.Placement) time.Time {
	if p.WrittenAt == nil {
		return time.Time{}
	}
	return *p.WrittenAt
}

// believe compares until the read can be believed. A read that is as we left it is; one that differs is once several reads agree over
// longer than the provider's lag, and the zone's nameservers serve the same, where they can tell. It returns errUnconfirmed where that
// does not come about.
func (s *Syncs) believe(ctx context.Context, p *Place, patience time.Duration, compare func() (comparison, error)) (c comparison, err error) {
	var first time.Time
	var before []diff.Doubt
	for agreed, try := 0, 0; ; try++ {
		if c, err = compare(); err != nil {
			return c, err
		}
		now := s.store.Now()
		if !c.inDoubt() || s.confirmed.Has(p.Placement.ID, writtenAt(p.Placement), c.doubts, now) {
			return c, s.believed(ctx, *p, c)
		}
		if agreed++; agreed == 1 || !diff.SameDoubts(before, c.doubts) {
			agreed, before, first = 1, c.doubts, now
		}
		if agreed >= agreeingReads && now.Sub(first) > p.Caps.ReadLag {
			doubts := slices.DeleteFunc(diff.Sample(c.doubts, p.Zone.Name(), c.seen), func(d diff.Doubt) bool { return p.Caps.Relayed(c.details[d.Key].Attributes) })
			v := s.served.Hear(ctx, p.served(p.Placement.Names(), nil), doubts)
			if v.Agreed || !v.Heard && !v.Silent && agreed >= mostReads {
				s.confirmed.Set(p.Placement.ID, writtenAt(p.Placement), c.doubts, now)
				return c, s.believed(ctx, *p, c)
			}
			if patience -= now.Sub(first); patience < 0 {
				return c, errUnconfirmed{diff.Unconfirmed(p.Zone.Name(), p.Account.Name, len(c.doubts), v)}
			}
			first = now
		} else if try > 200 {
			return c, errUnconfirmed{diff.Unconfirmed(p.Zone.Name(), p.Account.Name, len(c.doubts), diff.Verdict{Why: "no two reads agree"})}
		}
		pause := min(firstReadPause<<min(try, 5), lastReadPause)
		if err := clock.Pause(ctx, max(pause, p.Caps.ReadLag)); err != nil {
			return c, err
		}
	}
}

// inDoubt reports whether the read is not believed by itself.
func (c comparison) inDoubt() bool { return len(c.doubts) > 0 || c.unknown }

// believed keeps what a read showed that is believed.
func (s *Syncs) believed(ctx context.Context, p Place, c comparison) error {
	if c.state.Mark != "" {
		s.live.Put(p.Placement.ID, c.state)
	}
	if !c.inDoubt() {
		s.confirmed.Set(p.Placement.ID, writtenAt(p.Placement), nil, s.store.Now())
	}
	if !c.keepsOthers || c.others != nil && c.others.Equal(c.beside()) {
		return nil
	}
	return s.store.Tx(ctx, func(tx *store.Tx) error { return tx.SetOthers(p.Placement.ID, c.beside()) })
}

// beside returns what is live and was not placed by us.
func (c comparison) beside() record.Contents {
	return c.seen.Filter(func(k record.Key) bool { return c.sent.Get(k).IsZero() })
}

// doubtWritten notes where the read does not show what this sync wrote.
func (r *syncRun) doubtWritten(c *comparison) {
	for _, d := range diff.Unsure(r.applied, c.placed, c.live) {
		c.addDoubt(d)
	}
}

// doubt notes where the read differs from what is known. A zone that is written as a whole takes everything along that was read, so
// there it matters what else is live, too.
func (c *comparison) doubt(p Place, wanted record.Contents) {
	c.keepsOthers = p.Caps.Granularity == change.ByZone
	c.doubts = diff.Doubts(c.sent, c.seen, c.others)
	if p.Placement.WrittenAt != nil { // somebody else did what was to be done
		for _, set := range c.result.Arrived {
			if c.sent.Get(set.Key()).IsZero() && (c.others == nil || c.others.Get(set.Key()).IsZero()) {
				c.addDoubt(diff.Doubt{Key: set.Key(), Read: set})
			}
		}
	}
	if c.unknown = c.keepsOthers && c.others == nil; c.unknown {
		for set := range wanted.Sets() {
			if c.seen.Get(set.Key()).IsZero() {
				c.addDoubt(diff.Doubt{Key: set.Key()})
			}
		}
	}
	if leave := p.Zone.Ignored(); len(leave) > 0 && !c.keepsOthers {
		c.doubts = slices.DeleteFunc(c.doubts, func(d diff.Doubt) bool { return record.AnyMatches(leave, d.Key) })
	}
}

func (c *comparison) addDoubt(d diff.Doubt) {
	at, there := slices.BinarySearchFunc(c.doubts, d.Key, func(d diff.Doubt, k record.Key) int { return d.Key.Compare(k) })
	if !there {
		c.doubts = slices.Insert(c.doubts, at, d)
	}
}
