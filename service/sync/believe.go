package sync

import (
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"beacon/clock"
	"beacon/core/change"
	"beacon/core/diff"
	"beacon/core/evidence"
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

// confirmations keeps which doubts were confirmed last, so that a difference that stays is not asked about with every look.
type confirmations struct {
	mu   sync.Mutex
	last map[uint64]confirmed // by placement
}

type confirmed struct {
	doubts  []diff.Doubt
	written time.Time // the placement's last write
	until   time.Time
}

// confirmedFor is how long a confirmed difference is believed without asking again, real time.
const confirmedFor = 10 * time.Minute

func writtenAt(p store.Placement) time.Time {
	if p.WrittenAt == nil {
		return time.Time{}
	}
	return *p.WrittenAt
}

func (c *confirmations) has(p store.Placement, doubts []diff.Doubt, now time.Time) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	last, ok := c.last[p.ID]
	return ok && now.Before(last.until) && last.written.Equal(writtenAt(p)) && diff.SameDoubts(last.doubts, doubts)
}

func (c *confirmations) set(p store.Placement, doubts []diff.Doubt, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(doubts) == 0 {
		delete(c.last, p.ID)
		return
	}
	c.last[p.ID] = confirmed{doubts, writtenAt(p), now.Add(confirmedFor)}
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
		if !c.inDoubt() || s.confirmed.has(p.Placement, c.doubts, now) {
			return c, s.believed(ctx, *p, c)
		}
		if agreed++; agreed == 1 || !diff.SameDoubts(before, c.doubts) {
			agreed, before, first = 1, c.doubts, now
		}
		if agreed >= agreeingReads && now.Sub(first) > p.Caps.ReadLag {
			v := s.hear(ctx, *p, c)
			if v.Agreed || !v.Heard && !v.Silent && agreed >= mostReads {
				s.confirmed.set(p.Placement, c.doubts, now)
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
		s.confirmed.set(p.Placement, nil, s.store.Now())
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

// hear asks the zone's nameservers about a read that is in doubt.
func (s *Syncs) hear(ctx context.Context, p Place, c comparison) diff.Verdict {
	ctx, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	doubts := slices.DeleteFunc(diff.Sample(c.doubts, p.Zone.Name(), c.seen), func(d diff.Doubt) bool { return p.Caps.Relayed(c.details[d.Key].Attributes) })
	servers, problems := s.serversOf(ctx, p)
	var heard []diff.Heard
	for _, server := range s.reachable(servers) {
		for _, d := range doubts {
			heard = append(heard, diff.Heard{Server: strings.TrimSuffix(server.Name.String(), ".") + " (" + server.Address + ")", Doubt: d, Answer: s.sweeper.AskSet(ctx, server, d.Key)})
		}
	}
	v := diff.Weigh(heard)
	if len(servers) == 0 && len(problems) > 0 && len(doubts) > 0 { // its names lead to no address: nobody was asked
		v.Silent = slices.ContainsFunc(problems, func(n evidence.NameProblem) bool { return n.Kind == evidence.NameNotLooked })
	}
	return v
}

// doubtWritten notes where the read does not show what this sync wrote: sets that it removed, and sets that the provider may have
// written in its own way.
func (r *syncRun) doubtWritten(c *comparison) {
	for key, step := range r.lastApplied() {
		if now := c.live.Get(key); step.After.IsZero() && !now.IsZero() {
			c.addDoubt(diff.Doubt{Key: key, Read: now})
		}
	}
	applied := r.lastApplied()
	for _, p := range c.placed {
		key := p.Sent.Key()
		if now := c.live.Get(key); p.Read.IsZero() && !now.IsZero() && !now.Equal(p.Sent) {
			c.addDoubt(diff.Doubt{Key: key, Known: p.Sent, Read: now, Form: true, Was: applied[key].Before})
		}
	}
}

// lastApplied returns the last step that this run did at each key.
func (r *syncRun) lastApplied() map[record.Key]change.Step {
	last := map[record.Key]change.Step{}
	for _, step := range r.applied {
		last[step.Key()] = step
	}
	return last
}

// unshown returns what this run wrote, the provider confirmed, and a believed read does not show.
func (r *syncRun) unshown(c comparison) (keys []string) {
	for key, step := range r.lastApplied() {
		now := c.seen.Get(key)
		switch {
		case step.After.IsZero() && now.Equal(step.Before) && !now.IsZero(), !step.After.IsZero() && !now.Equal(step.After) && c.sent.Get(key).Equal(step.After):
			keys = append(keys, key.String())
		}
	}
	slices.Sort(keys)
	return keys
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
