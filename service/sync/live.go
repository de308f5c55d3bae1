package sync

import (
	"context"
	"sync"
	"time"

	"beacon/clock"
	"beacon/core/record"
	"beacon/provider"
)

// mostRemembered bounds how many records are kept to spare reading them again.
const mostRemembered = 3_000_000

// memory keeps the zones that were read last under their change marks, so that one that has not changed costs one small
// request and no reading.
type memory struct {
	mu    sync.Mutex
	zones map[uint64]provider.State
	size  int
}

func (m *memory) get(placement uint64) provider.State {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.zones[placement]
}

func (m *memory) put(placement uint64, s provider.State) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.size += s.Contents.Len() - m.zones[placement].Contents.Len()
	if m.zones[placement] = s; m.size > mostRemembered {
		clear(m.zones)
		m.size = 0
	}
}

// readLive reads what the provider has of a placement: not before its reads can show our last write, and without its
// records where nothing has changed since they were read last and believed.
func (s *Syncs) readLive(ctx context.Context, p *Place) (provider.State, error) {
	if p.Placement.WrittenAt != nil {
		if err := clock.Pause(ctx, p.Placement.WrittenAt.Add(p.Caps.ReadLag).Sub(s.store.Now())); err != nil {
			return provider.State{}, err
		}
	}
	reading, cancel := context.WithTimeout(ctx, s.timeout*4) // several pages
	defer cancel()
	known := provider.State{}
	if p.Caps.Marks {
		known = s.live.get(p.Placement.ID)
	}
	state, err := provider.ReadAll(reading, p.Driver, p.Ref(), known)
	if err != nil {
		return state, err
	}
	if state.Unchanged {
		return known, nil
	}
	name := p.Zone.Name()
	state.Contents = state.Contents.Filter(func(k record.Key) bool { return !p.Caps.Owned(name, k) })
	return state, nil
}

// wrote notes when a placement was last written to.
func (p *Place) wrote(at time.Time) { p.Placement.WrittenAt = &at }
