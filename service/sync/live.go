package sync

import (
	"context"
	"slices"
	"time"

	"beacon/clock"
	"beacon/core/record"
	"beacon/provider"
)

// readLive reads what the provider has of a placement: not before its reads can show our last write, and without its
// records where nothing has changed since they were read last and believed.
func (s *Syncs) readLive(ctx context.Context, p *Place) (provider.State, error) {
	if err := s.awaitLag(ctx, *p); err != nil {
		return provider.State{}, err
	}
	reading, cancel := context.WithTimeout(ctx, s.timeout*4) // several pages
	defer cancel()
	known := provider.State{}
	if p.Caps.Marks {
		known = s.live.Get(p.Placement.ID)
	}
	state, err := provider.ReadAll(reading, p.Driver, p.Ref(), known)
	if err != nil {
		return state, err
	}
	if state.Unchanged {
		known.Unchanged = true
		return p.readSOA(reading, known)
	}
	name := p.Zone.Name()
	if state.Changed != nil { // the rest is without what is the provider's already
		owned := slices.DeleteFunc(slices.Clone(state.Changed), func(k record.Key) bool { return !p.Caps.Owned(name, k) })
		state.Contents = state.Contents.Without(owned...)
		return p.readSOA(reading, state)
	}
	state.Contents = state.Contents.Filter(func(k record.Key) bool { return !p.Caps.Owned(name, k) })
	return p.readSOA(reading, state)
}

// awaitLag returns once a read can show our last write.
func (s *Syncs) awaitLag(ctx context.Context, p Place) error {
	if p.Placement.WrittenAt == nil {
		return nil
	}
	return clock.Pause(ctx, p.Placement.WrittenAt.Add(p.Caps.ReadLag).Sub(s.store.Now()))
}

// wrote notes when a placement was last written to.
func (p *Place) wrote(at time.Time) { p.Placement.WrittenAt = &at }
