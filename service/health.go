package service

import (
	"context"
	"fmt"
	"sync"
	"time"

	"beacon/store"
)

// How often it is tried whether the database takes writes, and how long that may take, real time.
const (
	beatEvery = time.Second
	beatTime  = 1500 * time.Millisecond
)

// health knows whether the database is there. It is safe for concurrent use.
type health struct {
	mu     sync.Mutex
	since  time.Time // when it was first found away; zero while it is there
	reason string
	up     context.Context // ends when it is found away
	down   context.CancelCauseFunc
}

func newHealth() *health {
	h := &health{}
	h.up, h.down = context.WithCancelCause(context.Background())
	return h
}

// state returns since when the database is away, and why; the zero time while it is there.
func (h *health) state() (since time.Time, reason string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.since, h.reason
}

// found takes in whether the database is there, and returns from when to when it was away where it has just come back.
func (h *health) found(began time.Time, err error) (from, to time.Time, reason string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case err != nil && h.since.IsZero():
		h.since, h.reason = began, err.Error()
		h.down(&store.Away{Err: err})
	case err == nil && !h.since.IsZero():
		from, to, reason = h.since, time.Now(), h.reason
		h.since, h.reason = time.Time{}, ""
		h.up, h.down = context.WithCancelCause(context.Background())
	}
	return from, to, reason
}

// Up returns a context that ends when the database is found away.
func (s *Service) Up() context.Context {
	s.health.mu.Lock()
	defer s.health.mu.Unlock()
	return s.health.up
}

// Away returns since when the database is away, and why; the zero time while it is there.
func (s *Service) Away() (since time.Time, reason string) { return s.health.state() }

// Ready tries whether the database takes a write, and returns why not. It returns within two seconds.
func (s *Service) Ready(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, beatTime)
	defer cancel()
	err := s.store.Beat(ctx)
	if since, reason := s.health.state(); err != nil && !since.IsZero() {
		return fmt.Errorf("away since %s: %s", since.UTC().Format(time.RFC3339), reason)
	}
	return err
}

// watchHealth tries the database every second, until ctx ends. An outage is one line of the logbook, once it is over.
func (s *Service) watchHealth(ctx context.Context) {
	mark, err := readMark(s.settings.markFile())
	if err != nil {
		s.log.Error("the mark of the database cannot be read", "error", err)
	}
	for ctx.Err() == nil {
		began := time.Now()
		trying, cancel := context.WithTimeout(ctx, beatTime)
		err := s.store.Beat(trying)
		cancel()
		if ctx.Err() != nil {
			return
		}
		if since, _ := s.health.state(); err != nil && since.IsZero() {
			s.log.Error("the database is away", "error", err)
		}
		if from, to, reason := s.health.found(began, err); !from.IsZero() {
			s.log.Info("the database is back", "from", from, "to", to)
			s.tellOutage(ctx, from, to, reason)
		}
		if err == nil {
			mark = s.moveMark(ctx, mark)
		}
		select {
		case <-ctx.Done():
		case <-time.After(beatEvery):
		}
	}
}

// tellOutage logs that the database was away, and what could not be logged meanwhile.
func (s *Service) tellOutage(ctx context.Context, from, to time.Time, reason string) {
	late, lost := s.Logbook.Flush(ctx)
	detail := fmt.Sprintf("database away from %s to %s (%s): %s", from.UTC().Format(time.DateTime), to.UTC().Format(time.DateTime), to.Sub(from).Round(time.Second), reason)
	if late > 0 {
		detail += fmt.Sprintf("; %d lines were logged late", late)
	}
	if lost > 0 {
		detail += fmt.Sprintf("; %d more were lost", lost)
	}
	s.Logbook.Note(ctx, "service", "database.away", "database", detail)
}
