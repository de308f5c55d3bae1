package provider

import "sync"

// mostRemembered bounds how many records are kept to spare reading them again.
const mostRemembered = 3_000_000

// Memory keeps the zones that were read last under their change marks, so that one that has not changed costs one small
// request and no reading. The zero value is ready.
type Memory struct {
	mu    sync.Mutex
	zones map[uint64]State
	size  int
}

// Get returns what was kept of a placement; the zero State where nothing was.
func (m *Memory) Get(placement uint64) State {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.zones[placement]
}

// Put keeps what was read of a placement.
func (m *Memory) Put(placement uint64, s State) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.zones == nil {
		m.zones = map[uint64]State{}
	}
	m.size += s.Contents.Len() - m.zones[placement].Contents.Len()
	s.Unchanged, s.Changed = false, nil
	if m.zones[placement] = s; m.size > mostRemembered {
		clear(m.zones)
		m.size = 0
	}
}
