package aliases

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"beacon/core/dnsname"
	"beacon/core/layers"
	"beacon/core/record"
	"beacon/looking"
	"beacon/resolve"
	"beacon/service/jobs"
	"beacon/service/logbook"
	"beacon/service/sync"
	"beacon/service/zones"
	"beacon/store"
)

// Bounds on how often an ALIAS's target is asked for, in simulated time: the TTL of its answers says when.
const (
	aliasSoonest = 10 * time.Second
	aliasLatest  = time.Hour
	aliasAfter   = 30 * time.Second // a failure
)

// FollowAliases schedules questions for the targets of a zone's ALIAS records.
func (s *Aliases) FollowAliases(tx *store.Tx, z store.Zone, c record.Contents) error {
	if len(c.Aliases()) == 0 {
		return nil
	}
	return jobs.Enqueue(tx, store.JobAlias, z.ID, s.store.Now())
}

// Answers asks for the targets of a zone's ALIAS records that lie outside it, keeps what was heard, and gives all that is known.
// The last good answer stays where a target does not answer.
func (s *Aliases) Answers(ctx context.Context, z store.Zone, c record.Contents, known []store.Alias) ([]store.Alias, error) {
	var list []store.Alias
	for _, set := range c.Aliases() {
		target := c.Outside(set)
		if target.IsZero() {
			continue
		}
		now := s.world.Now()
		a := store.Alias{Name: set.Name, Target: target, AskedAt: &now, Answers: []netip.Addr{}}
		if i := slices.IndexFunc(known, func(k store.Alias) bool { return k.Name == set.Name && k.Target == target }); i >= 0 {
			a.Answers, a.TTL, a.AnsweredAt = known[i].Answers, known[i].TTL, known[i].AnsweredAt
		}
		heard, err := s.addresses(ctx, target, a.Answers)
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case err != nil:
			a.Problem = err.Error()
		case len(heard.List) == 0:
			a.Problem = "it has neither A nor AAAA records"
		default:
			a.Answers, a.TTL, a.Differs, a.AnsweredAt = heard.List, heard.TTL, heard.Differs, &now
		}
		list = append(list, a)
	}
	if looking.Is(ctx) {
		return list, nil
	}
	return list, s.logbook.Tx(ctx, func(tx *store.Tx) error {
		for _, old := range known {
			if !slices.ContainsFunc(list, func(a store.Alias) bool { return a.Name == old.Name }) {
				if err := tx.ForgetAlias(z.ID, old.Name); err != nil {
					return err
				}
			}
		}
		for _, a := range list {
			if err := tx.SetAlias(z.ID, a); err != nil {
				return err
			}
		}
		return nil
	})
}

// addresses asks for the addresses of a target. What differs from what is known is written to providers without a user looking at it: it is asked for
// again over TCP, and what is said there counts.
func (s *Aliases) addresses(ctx context.Context, target dnsname.Name, known []netip.Addr) (resolve.Addresses, error) {
	asking, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	heard, err := s.sweeper.Addresses(asking, target)
	if err != nil || len(heard.List) == 0 || slices.Equal(heard.List, known) {
		return heard, err
	}
	surely, cancel := context.WithTimeout(resolve.Surely(ctx), s.timeout)
	defer cancel()
	sure, err := s.sweeper.Addresses(surely, target)
	if err != nil {
		return sure, fmt.Errorf("its addresses changed to %v, which could not be confirmed over TCP: %w", heard.List, err)
	}
	return sure, nil
}

// RunAlias keeps the addresses of a zone's ALIAS records right: it asks, and where the answer is another one, it has it written.
func (s *Aliases) RunAlias(ctx context.Context, job store.Job) error {
	var z store.Zone
	var c record.Contents
	var known []store.Alias
	err := s.store.Tx(ctx, func(tx *store.Tx) (err error) {
		if z, err = zones.ByID(tx, job.Subject); err != nil || z.RevisionID == nil {
			return err
		}
		if c, err = zones.Contents(tx, *z.RevisionID); err != nil {
			return err
		}
		owners, err := zones.OwnersOf(tx, z.ID)
		c, known = layers.WithReported(c, owners.Layers()), owners.Aliases
		return err
	})
	if store.IsMissing(err) || err == nil && z.RevisionID == nil {
		return nil
	}
	if err != nil {
		return err
	}
	now, err := s.Answers(ctx, z, c, known)
	if err != nil || len(now) == 0 {
		return err
	}
	before, after := layers.Over(c, zones.Owners{Aliases: known}.Layers()).Contents, layers.Over(c, zones.Owners{Aliases: now}.Layers()).Contents
	err = s.store.Tx(ctx, func(tx *store.Tx) error {
		if err := s.sayOfAliases(tx, z, known, now); err != nil || before.Equal(after) || len(known) == 0 {
			return err
		}
		placements, err := zones.Placements(tx, z.ID)
		if err != nil {
			return err
		}
		placements = slices.DeleteFunc(placements, func(p store.Placement) bool { return p.RemoteID == "" })
		return sync.AwaitHosts(tx, "alias", placements...)
	})
	if err != nil {
		return err
	}
	s.jobs.Wake(store.JobUrgent)
	return jobs.Later{World: s.world.Now().Add(nextAsking(now)), Worked: true}
}

// nextAsking is how long to wait, simulated time.
func nextAsking(list []store.Alias) time.Duration {
	next := aliasLatest
	for _, a := range list {
		wait := time.Duration(a.TTL) * time.Second
		if a.Problem != "" {
			wait = aliasAfter
		}
		next = min(next, max(wait, aliasSoonest))
	}
	return next
}

// sayOfAliases writes into the logbook what is new about the targets of ALIAS records.
func (s *Aliases) sayOfAliases(tx *store.Tx, z store.Zone, known, now []store.Alias) error {
	for _, a := range now {
		var old store.Alias
		if i := slices.IndexFunc(known, func(k store.Alias) bool { return k.Name == a.Name && k.Target == a.Target }); i >= 0 {
			old = known[i]
		}
		action, detail := "", ""
		switch {
		case a.Problem != old.Problem && a.Problem != "":
			action, detail = "alias.unanswered", fmt.Sprintf("%s: %s; the last good answer stays", a.Target.Unicode(), a.Problem)
		case !slices.Equal(a.Answers, old.Answers):
			action, detail = "alias.moved", fmt.Sprintf("%s is at %v", a.Target.Unicode(), a.Answers)
		}
		if action != "" {
			if err := logbook.Log(tx, "service", action, a.Name.String(), detail); err != nil {
				return err
			}
		}
	}
	return nil
}
