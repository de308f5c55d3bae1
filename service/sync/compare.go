package sync

import (
	"cmp"
	"context"
	"slices"

	"beacon/core/access"
	"beacon/core/change"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/layers"
	"beacon/core/record"
	"beacon/core/soa"
	"beacon/provider"
	"beacon/service/accounts"
	"beacon/service/logbook"
	"beacon/service/served"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Place is everything about one placement that a comparison or a sync works with.
type Place struct {
	Zone      store.Zone
	Placement store.Placement
	Account   store.Account
	Driver    provider.Driver
	Caps      change.Caps
	SOA       soa.Parameters // desired fields of the SOA record that the provider lets be set
}

func (p Place) Ref() provider.ZoneRef {
	return provider.ZoneRef{ID: p.Placement.RemoteID, Name: p.Zone.Name()}
}

// served returns whose nameservers are asked.
func (p Place) served(nameservers []dnsname.Name, behind map[dnsname.Name]bool) served.Placement {
	return served.Placement{Zone: p.Zone.Name(), Nameservers: nameservers, Driver: p.Driver, Behind: behind}
}

// PlacesOf returns the placements of a zone.
func (s *Syncs) PlacesOf(ctx context.Context, name dnsname.Name) (places []Place, err error) {
	err = s.logbook.Tx(ctx, func(tx *store.Tx) error {
		places = nil
		z, err := zones.ByName(tx, name)
		if err != nil {
			return err
		}
		placements, err := zones.Placements(tx, z.ID)
		if err != nil {
			return err
		}
		for _, p := range placements {
			a, err := accounts.ByID(tx, p.AccountID)
			if err != nil {
				return err
			}
			places = append(places, Place{Zone: z, Placement: p, Account: a})
		}
		return nil
	})
	if err == nil && len(places) == 0 {
		err = wire.Problemf(wire.Blocked, "Zone %s is not placed at any provider. Name one in its definition: providers: [ACCOUNT].", name)
	}
	for i := range places {
		if err == nil {
			err = s.connect(ctx, &places[i])
		}
	}
	return places, err
}

func (s *Syncs) connect(ctx context.Context, p *Place) (err error) {
	if p.Driver, err = s.accounts.Provider(p.Account); err == nil {
		p.Caps, err = p.Driver.Describe(ctx, p.Ref())
		low, soa := p.Placement.LoweredTTLs(), s.zones.SOA(p.Zone)
		if low.Restored && p.Placement.State == store.InSync { // it is as it was: whatever it is from now on stays
			low = store.LoweredTTLs{}
		}
		soa.Minimum = cmp.Or(low.Negative, soa.Minimum)
		p.Caps, p.SOA = p.Caps.Telling(p.Placement.ToldSet(), low.NS), soa.Only(p.Caps.SOA)
	}
	return logbook.Explain(err)
}

// comparison is a difference with what it was made from.
type comparison struct {
	result  diff.Result
	again   func() change.List // what would be written to a zone that holds nothing
	placed  []store.PlacedSet
	live    record.Contents // as the provider gives it
	details change.Details
	notes   []finding.Finding
	owners  zones.Owners // of layers
	desired layers.Desired

	revision record.Contents // whole
	state    provider.State  // as read
	sent     record.Contents // what was placed, as it was sent
	seen     record.Contents // live, with sets as they were sent that are only written in the provider's own way
	doubts   []diff.Doubt    // why the read is not believed by itself

	keepsOthers bool             // the zone is written as a whole
	others      *record.Contents // then what else was live when it was read last; nil where that is not known
	unknown     bool             // and it is not
}

// compare reads the live state and holds it against what is wanted and what was placed.
func (s *Syncs) compare(ctx context.Context, p Place, revisionID uint64, drift diff.DriftPolicy) (comparison, error) {
	return s.compareWith(ctx, p, revisionID, drift, false)
}

// compareWith is compare; where the change mark says that nothing else moved since all was in sync, a brief one looks only at what did. The
// placement must be locked for that.
func (s *Syncs) compareWith(ctx context.Context, p Place, revisionID uint64, drift diff.DriftPolicy, brief bool) (comparison, error) {
	var c comparison
	is, was := s.inSync.get(p.Placement.ID)
	brief = brief && was
	err := s.logbook.Tx(ctx, func(tx *store.Tx) (err error) {
		if c.revision, err = zones.Contents(tx, revisionID); err != nil {
			return err
		}
		if c.owners, err = zones.OwnersOf(tx, p.Zone.ID); err != nil {
			return err
		}
		if p.Caps.Granularity == change.ByZone {
			if c.others, err = tx.Others(p.Placement.ID); err != nil {
				return err
			}
		}
		if !brief {
			c.placed, err = tx.Placed(p.Placement.ID)
		}
		return err
	})
	if err != nil {
		return c, err
	}
	known := s.live.Get(p.Placement.ID).Mark
	if p.Placement.RemoteID != "" {
		state, err := s.readLive(ctx, &p)
		if err != nil {
			return c, err
		}
		c.state = state
		c.live, c.details = state.Contents, state.Details
	}
	revision, live := c.revision, c.live
	if brief {
		names, ok := is.names(p, c, c.state, known)
		if ok {
			revision, live = revision.Among(names), live.Among(names)
		} else {
			names = nil
		}
		if err := s.store.Tx(ctx, func(tx *store.Tx) (err error) { c.placed, err = tx.Placed(p.Placement.ID, names...); return err }); err != nil {
			return c, err
		}
	}
	if err := s.judge(ctx, p, revision, live, drift, &c); err != nil {
		return c, err
	}
	return c, nil
}

// judge compares desired, placed and live records, which may be those at some names only.
func (s *Syncs) judge(ctx context.Context, p Place, revision, live record.Contents, drift diff.DriftPolicy, c *comparison) error {
	if err := s.withLayers(ctx, p, revision, c); err != nil {
		return err
	}
	wanted, notes := p.Caps.Project(p.Zone.Name(), c.desired.Contents)
	c.notes = append(c.notes, notes...)
	c.notes = append(c.notes, soa.Unsupported(p.Zone.Name(), p.Zone.ZoneSettings().SOA, p.Caps.SOA)...)
	c.sent, c.seen = diff.Recognise(c.placed, live)
	if is := live.Get(p.soaKey()); !is.IsZero() { // desired fields replace those that were changed elsewhere
		c.sent = c.sent.With(is)
	}
	if is := live.Get(record.Key{Name: p.Zone.Name(), Type: record.NS}); len(p.Caps.Told) > 0 && !is.IsZero() { // it replaces the provider's own
		c.sent = c.sent.With(is)
	}
	var gaps []finding.Finding
	c.result, gaps = differ(p, p.withSOA(wanted, live), c.sent, c.seen, drift, *c)
	c.notes = append(c.notes, gaps...)
	if p.Placement.RemoteID != "" {
		c.doubt(p, wanted)
	}
	c.again = func() change.List {
		r, _ := differ(p, wanted, record.Contents{}, record.Contents{}, drift, comparison{desired: c.desired})
		return r.Steps
	}
	return nil
}

// differ compares desired, placed and live records of a placement, as the settings of the zone say.
func differ(p Place, wanted, sent, live record.Contents, drift diff.DriftPolicy, c comparison) (diff.Result, []finding.Finding) {
	r := diff.Compare(wanted, sent, live, drift)
	leave := p.Zone.Ignored()
	if len(leave)+len(c.desired.Unanswered) > 0 {
		inSync := r.InSync // what needs nothing needs nothing here, too
		r = r.Only(func(k record.Key) bool {
			held := (k.Type == record.A || k.Type == record.AAAA) && slices.Contains(c.desired.Unanswered, k.Name) && !slices.Contains(p.kept(), k.Name)
			return !record.AnyMatches(leave, k) && !held // nothing is taken away for want of an answer
		})
		r.InSync = inSync
	}
	care := p.Zone.ZoneSettings()
	if care.KeepExisting {
		r = r.KeepExisting()
	}
	declared := map[record.Key]map[string]string{}
	for _, a := range care.Attributes {
		declared[a.Key] = a.Values
	}
	var notes, gaps []finding.Finding
	r.Steps, notes = p.Caps.Attributed(r.Steps, declared, wanted, c.live, c.details)
	r.Steps, gaps = p.Caps.Gaps(r.Steps)
	return r, append(notes, gaps...)
}

// watched is what guards look at in a zone.
func watched(z store.Zone, hosts []store.Host, unanswered []dnsname.Name) diff.Watched {
	w := diff.Watched{Zone: z.Name(), Protect: z.ZoneSettings().Protect, Unanswered: unanswered}
	for _, h := range hosts {
		w.Hosts = append(w.Hosts, h.Name())
	}
	return w
}

// kept are the names at which the provider follows an ALIAS by itself.
func (p Place) kept() []dnsname.Name {
	if !p.Caps.ApexAlias {
		return nil
	}
	return []dnsname.Name{p.Zone.Name()}
}

// withLayers lays the layers of the zone on top of its revision. ALIAS targets without a known answer are resolved first.
func (s *Syncs) withLayers(ctx context.Context, p Place, revision record.Contents, c *comparison) error {
	c.desired = layers.Over(revision, c.owners.Layers(), p.kept()...)
	if len(c.desired.Unanswered) > 0 {
		var err error
		if c.owners.Aliases, err = s.observer.Answers(ctx, p.Zone, layers.WithReported(revision, c.owners.Layers()), c.owners.Aliases); err != nil {
			return err
		}
		c.desired = layers.Over(revision, c.owners.Layers(), p.kept()...)
	}
	if len(c.desired.Answered)+len(c.desired.Unanswered) > 0 {
		c.notes = append(c.notes, zones.AliasFindings(c.owners.Aliases)...)
	}
	return nil
}

// Differences compares every placement of a zone with what is wanted.
func (s *Syncs) Differences(ctx context.Context, by access.Caller, name dnsname.Name, revert bool) ([]wire.Difference, error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return nil, err
	}
	places, err := s.PlacesOf(ctx, name)
	if err != nil {
		return nil, err
	}
	var list []wire.Difference
	for _, p := range places {
		if p.Zone.RevisionID == nil {
			return nil, wire.Problemf(wire.Blocked, "Zone %s has no contents yet. Import a zone file or apply a definition first.", name)
		}
		if p.Placement.RemoteID == "" { // it may be there all the same
			zone, there, err := s.findZone(ctx, p, accounts.ZonesKept)
			if err != nil {
				return nil, logbook.Explain(err)
			}
			if there {
				p.Placement.RemoteID = zone.Ref.ID
			}
		}
		c, err := s.compare(ctx, p, *p.Zone.RevisionID, driftPolicy(revert))
		if err != nil {
			return nil, logbook.Explain(err)
		}
		var ours []record.Key
		if err := s.store.Look(ctx, func(tx *store.Tx) error { ours, err = s.observer.Ours(tx, p.Placement.ID, c.result); return err }); err != nil {
			return nil, err
		}
		list = append(list, wire.Difference{Zone: name, Account: p.Account.Name, NewZone: p.Placement.RemoteID == "", Steps: c.result.Steps,
			Digest: c.result.Steps.Digest(), Requests: len(p.Caps.Pack(c.result.Steps, c.live)), InSync: c.result.InSync,
			Drift: c.result.Drift, Conflicts: c.result.Conflicts, Foreign: c.result.Foreign, Ours: ours,
			Guards: diff.Guards(c.result.Steps, c.live, watched(p.Zone, c.owners.Hosts, c.desired.Unanswered)), Notes: c.notes})
	}
	return list, nil
}
