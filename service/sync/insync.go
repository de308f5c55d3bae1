package sync

import (
	"encoding/json"
	"slices"
	"sync"

	"beacon/core/change"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/core/soa"
	"beacon/provider"
)

// inSync is a placement that held what was desired, in every set: as long as its change mark says that nothing else moved, a comparison need
// only look at the names that differ from it.
type inSync struct {
	revision record.Contents
	mark     string
	care     string         // how the zone is looked after, and what the provider can do
	layers   []dnsname.Name // at which layers owned sets
}

// syncedPlacements keeps them, by placement.
type syncedPlacements struct {
	mu  sync.Mutex
	all map[uint64]inSync
}

func (s *syncedPlacements) get(placement uint64) (inSync, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	is, ok := s.all[placement]
	return is, ok
}

// note keeps that a placement is in sync, where the comparison shows it.
func (s *syncedPlacements) note(p Place, c comparison) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all == nil {
		s.all = map[uint64]inSync{}
	}
	r := c.result
	if c.state.Mark == "" || c.keepsOthers || len(r.Steps)+len(r.Conflicts)+len(r.Drift)+len(r.Foreign)+len(r.Arrived)+len(r.Forgotten) > 0 || slices.ContainsFunc(c.notes, func(f finding.Finding) bool { return f.Code != soa.CodeUnsupported }) || c.inDoubt() || len(c.revision.Aliases()) > 0 {
		delete(s.all, p.Placement.ID)
		return
	}
	s.all[p.Placement.ID] = inSync{c.revision, c.state.Mark, careOf(p), c.owners.Names()}
}

// careOf is what else than records decides what a placement should hold.
func careOf(p Place) string {
	text, err := json.Marshal([]any{p.Caps, p.Zone.ZoneSettings(), p.Zone.Ignored(), p.SOA})
	if err != nil {
		return err.Error()
	}
	return string(text)
}

// names returns the names that have to be compared: those at which the revision differs, those of layers, and those that moved at the
// provider since. ok is false where that is not known, and everything has to be.
func (is inSync) names(p Place, c comparison, state provider.State, known string) (list []dnsname.Name, ok bool) {
	if p.Caps.Granularity == change.ByZone || known != is.mark || is.care != careOf(p) || !state.Unchanged && state.Changed == nil {
		return nil, false
	}
	if list, ok = diff.Names(is.revision, c.revision); !ok {
		return nil, false
	}
	for _, k := range state.Changed {
		if k.Type == record.NS || k.Type == record.DNAME {
			return nil, false
		}
		list = append(list, k.Name)
	}
	list = append(append(list, is.layers...), c.owners.Names()...)
	list = diff.WithAncestors(list, p.Zone.Name())
	return list, len(list) <= diff.MostNames
}
