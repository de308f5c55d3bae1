package gather

import (
	"context"
	"errors"
	"fmt"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/gather"
	"beacon/core/record"
	"beacon/store"
	"beacon/wire"
)

// Show returns the newest gathering of a domain, as far as it got.
func (s *Gather) Show(ctx context.Context, by access.Caller, name dnsname.Name) (out wire.Gathering, err error) {
	if err := wire.Permit(by, access.See, access.Zone(name)); err != nil {
		return out, err
	}
	g, err := s.newest(ctx, name)
	if err != nil {
		return out, err
	}
	return view(g)
}

// List returns the newest gathering of a domain, or none.
func (s *Gather) List(ctx context.Context, by access.Caller, name dnsname.Name) ([]wire.Gathering, error) {
	g, err := s.Show(ctx, by, name)
	var missing *wire.Problem
	if errors.As(err, &missing) && missing.Kind == wire.NotFound {
		return []wire.Gathering{}, nil
	}
	return []wire.Gathering{g}, err
}

// newest returns the newest gathering of a domain.
func (s *Gather) newest(ctx context.Context, name dnsname.Name) (g store.Gathering, err error) {
	err = s.logbook.Look(ctx, func(tx *store.Tx) (err error) {
		if g, err = tx.GatheringOf(name); store.IsMissing(err) {
			err = wire.Problemf(wire.NotFound, "The records of %s were not gathered yet. Gather them: beacon zone gather %s.", name.Unicode(), name.Unicode())
		}
		return err
	})
	return g, err
}

// view returns a gathering as users see it.
func view(g store.Gathering) (out wire.Gathering, err error) {
	out = wire.Gathering{ID: g.ID, State: wire.GatheringState(g.State), Step: g.Step, Problem: g.Problem, Sources: []wire.GatheringSource{}, Records: []wire.GatheredSet{}, Doubts: []wire.GatheringDoubt{},
		LeftOut: []record.Record{}, RequestedBy: g.RequestedBy, CreatedAt: g.CreatedAt, FinishedAt: g.FinishedAt, Claim: gather.Unknown}
	if out.Domain, err = dnsname.Parse(g.Domain); err != nil {
		return out, err
	}
	list, err := unpacked(g.Found)
	if err != nil || len(list) == 0 {
		return out, err
	}
	merged := gather.Merge(out.Domain, list)
	out.Claim, out.Count = merged.Claim, len(merged.Sets)
	for i, s := range merged.Sources {
		sets := 0
		for set := range s.Contents.Sets() {
			if !gather.Plumbing(out.Domain, set.Key()) {
				sets++
			}
		}
		out.Sources = append(out.Sources, wire.GatheringSource{Kind: s.Kind, Name: s.Name, Claim: s.Claim, Why: s.Why, Sets: sets, Asked: s.Asked, Trusted: i == merged.Base})
	}
	for _, set := range merged.Sets[:min(len(merged.Sets), wire.MostImported)] {
		shown := wire.GatheredSet{Set: set.Set, From: []string{}}
		for _, i := range set.From {
			shown.From = append(shown.From, merged.Sources[i].Name)
		}
		out.Records = append(out.Records, shown)
	}
	for _, d := range merged.Doubts {
		out.Doubts = append(out.Doubts, wire.GatheringDoubt{Key: d.Key, Kind: d.Kind, TTL: d.TTL, Data: d.Data, From: d.From, Open: d.Kind.Open(), Text: doubtText(d)})
	}
	out.LeftOut = append(out.LeftOut, merged.Left...)
	return out, nil
}

// kindText names a way of looking.
func kindText(k gather.Kind) string {
	return map[gather.Kind]string{gather.FromAccount: "Account", gather.FromTransfer: "Zone transfer", gather.FromWalk: "NSEC chain", gather.FromFile: "Zone file", gather.FromAsking: "Asking for names"}[k]
}

// claimText says how complete the whole is.
func claimText(c gather.Claim) string {
	return map[gather.Claim]string{gather.Complete: "complete", gather.Partial: "incomplete", gather.Unknown: "perhaps incomplete", gather.Failed: "failed"}[c]
}

// doubtText says what a doubt means.
func doubtText(d gather.Doubt) string {
	switch d.Kind {
	case gather.Varies:
		return "The same question gets different answers: the provider chooses by time, or rotates. These addresses may not be the only ones."
	case gather.ByPlace:
		return "The provider answers by where a visitor is. These addresses may not be the only ones, and one record set cannot do the same elsewhere."
	case gather.CountsDown:
		return "Its TTL counts down: the provider looks these addresses up elsewhere, and they will change. An alias of that name is what the zone needs."
	case gather.EveryName:
		return "Every name gets this answer, though no wildcard record is there: the provider makes it."
	case gather.Relayed:
		return "Visitors get other addresses than " + "the records say: the provider answers with its own, such as a relay. They work with that provider only."
	case gather.ChildZone:
		return "It is a zone of its own on the same nameservers, perhaps without a delegation. Keep: delegate it to the nameservers seen. It has to move as a domain of its own."
	case gather.OnlyIn:
		return fmt.Sprintf("Only %s has it. It is left out.", d.From)
	case gather.Differs:
		return fmt.Sprintf("%s has other data. They are not used.", d.From)
	}
	return ""
}
