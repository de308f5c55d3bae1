package users

import (
	"net/netip"
	"sync"
	"time"
)

// How many sign-ins are tried: of one name from one network, and of all names from one network. Other users do not wait for them.
var (
	ofNameAndNetwork = allowance{burst: 5, every: 30 * time.Second}
	ofNetwork        = allowance{burst: 20, every: 3 * time.Second}
)

// mostCounted bounds how many networks and names are counted at a time.
const mostCounted = 20_000

// allowance is how many tries there are at once, and after how long there is another one, real time.
type allowance struct {
	burst float64
	every time.Duration
}

// tries is what is left of an allowance.
type tries struct {
	left float64
	at   time.Time
}

func (a allowance) now(t tries, now time.Time) tries {
	return tries{min(a.burst, t.left+float64(now.Sub(t.at))/float64(a.every)), now}
}

// wait returns how long it is until there is a whole try.
func (a allowance) wait(t tries) time.Duration {
	if t.left >= 1 {
		return 0
	}
	return time.Duration((1 - t.left) * float64(a.every))
}

// counted is what is counted together; without a name, all names.
type counted struct {
	network netip.Prefix
	name    string
}

func (c counted) allowance() allowance {
	if c.name == "" {
		return ofNetwork
	}
	return ofNameAndNetwork
}

// guesses counts sign-ins that were tried. It is safe for concurrent use.
type guesses struct {
	mu  sync.Mutex
	all map[counted]tries
}

// networkOf returns the network that a client counts as: the whole of what one customer usually has.
func networkOf(from netip.Addr) netip.Prefix {
	from = from.Unmap().WithZone("")
	bits := 24
	if from.Is6() {
		bits = 56
	}
	p, _ := from.Prefix(bits) // the zero address has the zero prefix
	return p
}

// take uses up a try, or returns how long to wait for one.
func (g *guesses) take(name string, from netip.Addr, now time.Time) (wait time.Duration) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.all == nil {
		g.all = map[counted]tries{}
	}
	keys := [2]counted{{networkOf(from), name}, {networkOf(from), ""}}
	var left [2]tries
	for i, k := range keys {
		t, known := g.all[k]
		if !known {
			t = tries{k.allowance().burst, now}
		}
		left[i] = k.allowance().now(t, now)
		wait = max(wait, k.allowance().wait(left[i]))
	}
	if wait > 0 {
		return wait
	}
	for i, k := range keys {
		left[i].left--
		g.all[k] = left[i]
	}
	if len(g.all) > mostCounted {
		g.forget(now)
	}
	return 0
}

// right gives a try back: the password was right.
func (g *guesses) right(name string, from netip.Addr, now time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.all, counted{networkOf(from), name})
	if k := (counted{networkOf(from), ""}); g.all[k] != (tries{}) {
		t := ofNetwork.now(g.all[k], now)
		t.left = min(ofNetwork.burst, t.left+1)
		g.all[k] = t
	}
}

// forget drops what is as good as never counted, and where that is not enough, half of the rest.
func (g *guesses) forget(now time.Time) {
	for k, t := range g.all {
		if a := k.allowance(); a.now(t, now).left >= a.burst {
			delete(g.all, k)
		}
	}
	for k := range g.all {
		if len(g.all) <= mostCounted/2 {
			return
		}
		delete(g.all, k)
	}
}
