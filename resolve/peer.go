package resolve

import (
	"context"
	"net"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// server is what is remembered of an address that questions go to.
type server struct {
	at     netip.AddrPort
	udp    *net.UDPAddr // the same
	cookie []byte       // ours for it
	places chan struct{}
	pace   *rate.Limiter // nil for none

	mu     sync.Mutex
	theirs []byte        // its part of the cookie
	missed int           // answers in a row that had no cookie, though it is known
	smooth time.Duration // smoothed time of an answer, and its variation (RFC 6298 section 2)
	spread time.Duration
	used   time.Time
}

// mostServers is how many addresses are remembered; those not used for the longest time go.
const mostServers = 20000

func (c *Client) server(at netip.AddrPort) *server {
	at = netip.AddrPortFrom(at.Addr().Unmap(), at.Port())
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.serverLocked(at)
}

// serverAt is server by the address's text, which need not be read again each time.
func (c *Client) serverAt(text string) (*server, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if s := c.texts[text]; s != nil {
		s.used = c.now
		return s, nil
	}
	at, err := netip.ParseAddrPort(text)
	if err != nil {
		return nil, err
	}
	s := c.serverLocked(netip.AddrPortFrom(at.Addr().Unmap(), at.Port()))
	if len(c.texts) >= mostServers {
		clear(c.texts)
	}
	c.texts[text] = s
	return s, nil
}

func (c *Client) serverLocked(at netip.AddrPort) *server {
	s := c.servers[at]
	if s == nil {
		if len(c.servers) >= mostServers {
			c.forget(c.now)
		}
		s = &server{at: at, udp: net.UDPAddrFromAddrPort(at), cookie: c.clientCookie(at.Addr()), places: make(chan struct{}, c.opt.PerServer)}
		if c.opt.PerSecond > 0 {
			s.pace = rate.NewLimiter(rate.Limit(c.opt.PerSecond), c.opt.PerSecond)
		}
		c.servers[at] = s
	}
	s.used = c.now
	return s
}

// forget drops what has rested, ever shorter rests where there are too many.
func (c *Client) forget(now time.Time) {
	for rest := time.Minute; len(c.servers) >= mostServers/2 && rest > time.Millisecond; rest /= 2 {
		for at, s := range c.servers {
			if len(s.places) == 0 && now.Sub(s.used) > rest {
				delete(c.servers, at)
			}
		}
	}
	clear(c.texts)
}

// enter waits until the server may be asked once more.
func (s *server) enter(ctx context.Context) error {
	select {
	case s.places <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	if s.pace == nil {
		return ctx.Err()
	}
	if err := s.pace.Wait(ctx); err != nil {
		s.leave()
		return err
	}
	return nil
}

func (s *server) leave() { <-s.places }

// leastPatience bounds how soon a try is given up: a busy machine is not a dead one.
const leastPatience = 250 * time.Millisecond

// before returns what a try needs to know: how long to wait for the answer, and the server's part of the cookie.
func (s *server) before(most time.Duration, try int) (patience time.Duration, theirs []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case try > 0:
		return time.Duration(float64(most) * longest), s.theirs
	case s.smooth == 0:
		return most * 2 / 3, s.theirs
	}
	return s.patienceLocked(most), s.theirs
}

// longest bounds waiting for a server, in time-outs of a first try.
const longest = 5.0 / 2

func (s *server) patienceLocked(most time.Duration) time.Duration {
	return min(time.Duration(float64(most)*longest), max(leastPatience, s.smooth+4*s.spread))
}

// streamPatience is how long to wait for an answer over TCP, connecting counted.
func (s *server) streamPatience(most time.Duration) time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	return max(2*most, s.patienceLocked(most))
}

// heard takes the time of an answer in. Each try has an id of its own, so that it is known to which one an answer belongs.
func (s *server) heard(took time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.smooth == 0 {
		s.smooth, s.spread = took, took/2
		return
	}
	s.spread += ((s.smooth - took).Abs() - s.spread) / 4
	s.smooth += (took - s.smooth) / 8
}

func (s *server) keepCookie(b []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.theirs, s.missed = b, 0
}

// missingCookies is after how many answers in a row without a cookie a server has none any more: nobody forges so many.
const missingCookies = 4

// missesCookie takes in that an answer has no cookie, and reports whether it should have one: then it may be forged.
func (s *server) missesCookie() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.theirs == nil {
		return false
	}
	if s.missed++; s.missed > missingCookies {
		s.theirs, s.missed = nil, 0
		return false
	}
	return true
}
