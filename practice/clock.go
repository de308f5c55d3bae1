package practice

import (
	"sync"
	"time"
)

// clockState ties world time to wall time: World was now when the wall's clock showed Wall, and runs Rate times as fast.
type clockState struct {
	Wall  time.Time `json:"wall"`
	World time.Time `json:"world"`
	Rate  float64   `json:"rate"`
}

func (s clockState) at(wall time.Time) time.Time {
	return s.World.Add(time.Duration(float64(wall.Sub(s.Wall)) * s.Rate))
}

type clock struct {
	mu sync.RWMutex
	s  clockState
}

func newClock(s clockState) *clock { return &clock{s: s} }

func (c *clock) state() clockState {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.s
}

func (c *clock) now() time.Time { return c.state().at(time.Now()) }

// skip moves the clock on to a later time. One that it has passed changes nothing.
func (c *clock) skip(to time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); to.After(c.s.at(now)) {
		c.s = clockState{Wall: now, World: to, Rate: c.s.Rate}
	}
}

// setRate changes the speed from now on, without a jump.
func (c *clock) setRate(rate float64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := time.Now()
	c.s = clockState{Wall: now, World: c.s.at(now), Rate: rate}
}
