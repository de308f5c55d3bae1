package users

import (
	"context"
	"slices"
	"sync"
	"time"

	"beacon/looking"
	"beacon/store"
)

// watchPace is how often the tokens of open streams are looked at, real time: one query for all of them. Another instance may have ended them.
const watchPace = 500 * time.Millisecond

// watch knows the tokens of open streams. It is safe for concurrent use.
type watch struct {
	mu     sync.Mutex
	open   map[string][]chan struct{} // by token
	begun  bool
	looked sync.WaitGroup // the look at the tokens, while there are any
}

// Ended returns a channel that is closed once a token is not valid any more: it was signed out, revoked, or expired. stop ends the watching.
func (u *Users) Ended(token string) (ended <-chan struct{}, stop func()) {
	w := &u.watch
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.open == nil {
		w.open = map[string][]chan struct{}{}
	}
	c := make(chan struct{})
	w.open[token] = append(w.open[token], c)
	if !w.begun {
		w.begun = true
		w.looked.Go(u.watchTokens)
	}
	return c, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.open[token] = slices.DeleteFunc(w.open[token], func(have chan struct{}) bool { return have == c })
		if len(w.open[token]) == 0 {
			delete(w.open, token)
		}
	}
}

// Close waits until the tokens of open streams are not looked at any more. The streams have to end first.
func (u *Users) Close() { u.watch.looked.Wait() }

// watchTokens looks at the tokens until no stream is open.
func (u *Users) watchTokens() {
	for {
		time.Sleep(watchPace)
		tokens := u.watch.tokens()
		if len(tokens) == 0 {
			return
		}
		ctx, cancel := context.WithTimeout(looking.Off(context.Background()), 10*watchPace)
		var valid map[string]bool
		err := u.logbook.Look(ctx, func(tx *store.Tx) (err error) { valid, err = tx.ValidTokens(tokens); return err })
		cancel()
		if err != nil { // a database that is away ends streams by itself
			continue
		}
		u.watch.end(tokens, valid)
	}
}

// tokens returns those that are watched. Where there are none, the look ends.
func (w *watch) tokens() (list []string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for token := range w.open {
		list = append(list, token)
	}
	w.begun = len(list) > 0
	return list
}

func (w *watch) end(tokens []string, valid map[string]bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, token := range tokens {
		if valid[token] {
			continue
		}
		for _, c := range w.open[token] {
			close(c)
		}
		delete(w.open, token)
	}
}
