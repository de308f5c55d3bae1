package sync

import (
	"context"
	"maps"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"beacon/core/change"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/provider"
	"beacon/service/zones"
	"beacon/store"
)

// readTogether is how many names are read from a provider at the same time.
const readTogether = 4

// quickly does a sync of layers where the provider can read the records at one name by themselves: it reads the names at which something is to be
// written, writes them, and reads them again. The sets at all other names of layers are taken to be as they were written last; the next look
// shows whether they are.
//
// It reports false where the whole zone has to be compared: where that takes fewer requests, where a read is not as was expected, and where the
// provider shows something else than was written. What was sent by then is recorded.
func (s *Syncs) quickly(ctx context.Context, run *syncRun) (c comparison, done bool, err error) {
	settings := run.Zone.ZoneSettings()
	if run.sync.Scope != store.ScopeHosts || !run.Caps.ByName || run.Caps.Guarded || run.Caps.Granularity == change.ByZone || run.Placement.State != store.InSync || len(run.broken)+len(settings.Attributes) > 0 {
		return c, false, nil
	}
	var owned []dnsname.Name
	if err := s.logbook.Tx(ctx, func(tx *store.Tx) (err error) {
		if c.revision, err = zones.Contents(tx, run.sync.RevisionID); err != nil {
			return err
		}
		if c.owners, err = zones.OwnersOf(tx, run.Zone.ID); err != nil {
			return err
		}
		if owned = c.owners.Names(); len(owned) > 0 {
			c.placed, err = tx.Placed(run.Placement.ID, owned...)
		}
		return err
	}); err != nil || len(c.owners.Aliases)+len(c.revision.Aliases()) > 0 || len(owned) == 0 { // an ALIAS may follow a host
		return c, false, err
	}
	run.hosts = c.owners.Hosts
	revision := c.revision.Among(owned)
	known := diff.Returned(c.placed)
	c.live = known
	if err := s.judgeOwned(ctx, run, revision, &c); err != nil || !plain(c) {
		return c, false, err
	}
	names := namesOf(c.result.Steps)
	if len(names) == 0 {
		return c, true, nil
	}
	whole := run.Caps.Pages(c.revision.Len() + known.Len())
	if !run.SOA.IsZero() {
		whole++
	}
	if len(names) > max(2*whole-1, 1) { // names are read side by side, pages one after the other
		return c, false, nil
	}
	if err := s.readNames(ctx, run, names, known, &c); err != nil {
		return c, false, passing(err)
	}
	if err := s.judgeOwned(ctx, run, revision, &c); err != nil || !plain(c) {
		return c, false, err
	}
	if err := s.decide(ctx, run, c); err != nil {
		return c, false, err
	}
	written := c.result.Steps
	if all, err := s.sendAll(ctx, run, run.pack(c), c); err != nil || !all {
		return c, false, err
	}
	if err := s.readNames(ctx, run, names, known, &c); err != nil {
		return c, false, passing(err)
	}
	for _, step := range written {
		if !c.live.Get(step.Key()).Equal(step.After) {
			return c, false, nil
		}
	}
	c.placed = diff.PlacedBy(c.placed, written)
	if err := s.judgeOwned(ctx, run, revision, &c); err != nil || !plain(c) || len(c.result.Steps) > 0 {
		return c, false, err
	}
	c.placed = slices.DeleteFunc(c.placed, func(p store.PlacedSet) bool { return !slices.Contains(names, p.Sent.Name) }) // the others were not read
	return c, true, nil
}

// judgeOwned compares the sets of layers. The revision is that at their names.
func (s *Syncs) judgeOwned(ctx context.Context, run *syncRun, revision record.Contents, c *comparison) error {
	c.notes = nil
	if err := s.judge(ctx, run.Place, revision, c.live, diff.WantedWins, c); err != nil {
		return err
	}
	owned := func(k record.Key) bool { return c.desired.Owned[k] }
	c.result = c.result.Only(owned)
	c.doubts = slices.DeleteFunc(c.doubts, func(d diff.Doubt) bool { return !owned(d.Key) })
	return nil
}

// plain reports whether a comparison shows nothing but what is to be written.
func plain(c comparison) bool {
	r := c.result
	return len(r.Conflicts)+len(r.Drift)+len(r.Foreign)+len(r.Arrived)+len(r.Forgotten) == 0 && !c.inDoubt()
}

// readNames reads the sets at some names; what is live at the others is as known.
func (s *Syncs) readNames(ctx context.Context, run *syncRun, names []dnsname.Name, known record.Contents, c *comparison) error {
	if err := s.awaitLag(ctx, run.Place); err != nil {
		return err
	}
	reader, ok := run.Driver.(provider.NameReader)
	if !ok {
		return &outcall.Error{Kind: outcall.NotFound, Account: run.Account.Name, Asked: "the records at one name", Said: "its driver cannot read them"}
	}
	reading, cancel := context.WithTimeout(ctx, s.timeout*4)
	defer cancel()
	var mu sync.Mutex
	var all []record.Record
	details := change.Details{}
	group, reading := errgroup.WithContext(reading)
	group.SetLimit(readTogether)
	for _, name := range names {
		group.Go(func() error {
			page, err := reader.ReadName(reading, run.Ref(), name)
			mu.Lock()
			defer mu.Unlock()
			all = append(all, page.Records...)
			maps.Copy(details, page.Details)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	read := record.NewContents(all).Filter(func(k record.Key) bool { return !run.Caps.Owned(run.Zone.Name(), k) })
	c.live = known.Filter(func(k record.Key) bool { return !slices.Contains(names, k.Name) }).With(slices.Collect(read.Sets())...)
	c.details = details
	return nil
}

// passing returns an error of reading names that a read of the whole zone need not have, too, as nil.
func passing(err error) error {
	if kind := outcall.KindOf(err); kind == outcall.NotFound || kind == outcall.Refused {
		return nil
	}
	return err
}

// namesOf returns the names that steps are about.
func namesOf(steps change.List) (names []dnsname.Name) {
	for _, step := range steps {
		if !slices.Contains(names, step.Key().Name) {
			names = append(names, step.Key().Name)
		}
	}
	return names
}
