package users

import (
	"math"
	"net/netip"
	"sync"
	"time"

	"beacon/wire"
)

// How many reports come with one token, and how many with tokens that nobody has from one network. Each counts for itself: neither a network with many wrong tokens
// nor a client that reports all the time keeps others from reporting.
var (
	ofToken   = allowance{burst: 60, every: time.Second}
	ofUnknown = allowance{burst: 30, every: 2 * time.Second}
)

// budget counts what is taken of an allowance, by key. It is safe for concurrent use.
type budget[K comparable] struct {
	allowance
	mu  sync.Mutex
	all map[K]tries
}

// take uses up one, or returns how long to wait for one.
func (b *budget[K]) take(key K, now time.Time) (wait time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.all == nil {
		b.all = map[K]tries{}
	}
	t, known := b.all[key]
	if !known {
		t = tries{b.burst, now}
	}
	t = b.now(t, now)
	if wait = b.wait(t); wait == 0 {
		t.left--
	}
	b.all[key] = t
	if len(b.all) > mostCounted {
		for k, t := range b.all {
			if len(b.all) > mostCounted/2 || b.now(t, now).left >= b.burst {
				delete(b.all, k)
			}
		}
	}
	return wait
}

// limits are those of reports.
type limits struct {
	token   budget[uint64]
	key     budget[uint64] // TSIG keys
	unknown budget[netip.Prefix]
}

// MayUpdate reports whether one more update is taken of a TSIG key: as many as reports of a token. Each key counts for itself.
func (u *Users) MayUpdate(key uint64) bool { return u.limits.key.take(key, u.logbook.Now()) == 0 }

func tooMany(wait time.Duration) error {
	after := int(math.Ceil(wait.Seconds()))
	return &wire.Problem{Kind: wire.Limited, After: after, Message: "Too many reports. Nothing changed. Report again when the address changes, and otherwise every few minutes."}
}
