package users

import (
	"context"
	"net/netip"
	"runtime"
	"sync"
	"sync/atomic"

	"beacon/wire"
)

// Passwords are compared two at a time: each takes 19 MiB and some hundredths of a second of a processor. So many more may wait, but only a few of one
// network.
const (
	mostHashing    = 2
	mostWaiting    = 64
	mostOfANetwork = 16
	collectAfter   = 4 // so many leave some 80 MB
)

// hashing lets a few passwords be compared at a time.
type hashing struct {
	turn  chan struct{}
	since atomic.Uint64 // comparisons that were made

	mu      sync.Mutex
	waiting map[netip.Prefix]int
	all     int
}

func newHashing() *hashing {
	return &hashing{turn: make(chan struct{}, mostHashing), waiting: map[netip.Prefix]int{}}
}

// do calls compare when it is its turn. Where too many wait, it returns a problem at once.
func (h *hashing) do(ctx context.Context, from netip.Addr, compare func()) error {
	network := networkOf(from)
	if !h.enter(network) {
		return &wire.Problem{Kind: wire.Limited, Message: "Too many passwords are being hashed or compared. Nothing changed. Try again in a moment.", After: 1}
	}
	defer h.leave(network)
	select {
	case h.turn <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-h.turn }()
	compare()
	if h.since.Add(1)%collectAfter == 0 {
		runtime.GC() // what comparisons leave behind is large, and would double what the process takes
	}
	return nil
}

func (h *hashing) enter(network netip.Prefix) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.all >= mostWaiting || h.waiting[network] >= mostOfANetwork {
		return false
	}
	h.all++
	h.waiting[network]++
	return true
}

func (h *hashing) leave(network netip.Prefix) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.all--
	if h.waiting[network]--; h.waiting[network] == 0 {
		delete(h.waiting, network)
	}
}
