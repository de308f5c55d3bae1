package api

import (
	"strconv"
	"sync"

	"beacon/wire"
)

// slots counts what is under way of each kind and client. It is safe for concurrent use.
type slots struct {
	mu   sync.Mutex
	used map[string]int
}

// enter takes one of most slots and returns how to give it back, or a problem where none is free.
func (s *slots) enter(kind string, caller uint64, most int) (leave func(), err error) {
	key := kind + " " + strconv.FormatUint(caller, 10)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.used[key] >= most {
		return nil, &wire.Problem{Kind: wire.Limited, After: 2, Message: "You have as many of these requests under way as one user may have: " + strconv.Itoa(most) + ". Wait until one has ended."}
	}
	if s.used == nil {
		s.used = map[string]int{}
	}
	s.used[key]++
	return sync.OnceFunc(func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.used[key]--; s.used[key] == 0 {
			delete(s.used, key)
		}
	}), nil
}
