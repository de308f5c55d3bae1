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

// largeText is from how many octets on a definition or a zone file is large: one is read at a time, for it takes a core for seconds.
const largeText = 1 << 20

// large waits for nobody: it takes the one place for a large text, or returns a problem. A text that is not large needs none.
func (s *slots) large(octets int) (leave func(), err error) {
	if octets < largeText {
		return func() {}, nil
	}
	leave, err = s.enter("large texts", 0, 1)
	if err != nil {
		return nil, &wire.Problem{Kind: wire.Limited, After: 5, Message: "Another large definition or zone file is being read. Nothing changed. Send this one again in a few seconds."}
	}
	return leave, nil
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
