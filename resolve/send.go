package resolve

import (
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"net/netip"
	"runtime"
	"time"

	"beacon/reach"
)

// mostSent is how many questions are sent at a time.
const mostSent = 64

var errFull = errors.New("too many questions are open")

// send puts a question on its way, which takes the place that the caller has entered. It is sent together with those that others put at
// the same time: a call of the operating system, and waking a server on this machine, cost more than all else about a question.
func (c *Client) send(to *server, q Question, edns bool, try int) (*waiter, error) {
	f := &c.six
	if to.at.Addr().Is4() {
		f = &c.four
	}
	w := waiters.Get().(*waiter)
	w.family, w.to, w.place, w.held, w.over, w.taken = f, to, true, true, false, false
	w.edns, w.name, w.brief, w.strange = edns, q.Name, q.Brief, netip.AddrPort{}
	var theirs []byte
	w.patience, theirs = to.before(c.opt.Timeout, try)
	err := w.asked.pack(q, 0, edns, to.cookie, theirs, true)
	if err == nil {
		err = f.enqueue(w)
	}
	if err != nil {
		w.free()
		return nil, err
	}
	return w, nil
}

func (f *family) enqueue(w *waiter) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	switch {
	case f.closed:
		return errClosed
	case len(f.sockets) == 0:
		return errors.New("there is no way to this address from here")
	}
	if f.queue = append(f.queue, w); len(f.queue) == 1 {
		select {
		case f.called <- struct{}{}:
		default:
		}
	}
	return nil
}

// sendAll sends what is queued until the client is closed, and tells those who wait then.
func (f *family) sendAll(ended <-chan struct{}) {
	var batch, spare []*waiter
	messages := make([]reach.Message, mostSent)
	for i := range messages {
		messages[i].Buffers = make([][]byte, 1)
	}
	for {
		select {
		case <-f.called:
			runtime.Gosched() // whoever is about to ask does so now
		case <-ended:
			f.close()
			return
		}
		f.mu.Lock()
		batch, f.queue = f.queue, spare
		f.mu.Unlock()
		for rest := batch; len(rest) > 0; {
			n := min(len(rest), mostSent)
			f.sendSome(rest[:n], messages)
			rest = rest[n:]
		}
		clear(batch)
		spare = batch[:0]
	}
}

// close refuses all further questions, and ends the waiting of those that are there.
func (f *family) close() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.closed = true
	for _, w := range f.queue {
		w.held = false
		if w.over {
			w.recycle()
		} else {
			w.fail(datagram{failed: errClosed})
		}
	}
	f.queue = nil
	f.each(func(w *waiter) { w.fail(datagram{failed: errClosed}) })
}

// sendSome sends a batch through a socket that nobody can foresee.
func (f *family) sendSome(batch []*waiter, messages []reach.Message) {
	now := time.Now()
	f.mu.Lock()
	at := rand.IntN(len(f.sockets))
	s := f.sockets[at]
	sent := 0
	for _, w := range batch {
		switch {
		case w.over:
			w.held = false
			w.recycle()
		case !s.expect(w, now):
			w.held = false
			w.fail(datagram{failed: errFull})
		default:
			messages[sent].Buffers[0], messages[sent].Addr = w.asked.octets, w.to.udp
			batch[sent] = w
			sent++
		}
	}
	if s.uses == 0 {
		s.first = now
	}
	if s.uses += sent; s.uses >= portUses {
		f.renew(at)
	}
	f.mu.Unlock()
	batch = batch[:sent]
	var failed []datagram
	var which []*waiter
	s.packets.SendAll(messages[:sent], func(i int, err error) {
		which, failed = append(which, batch[i]), append(failed, datagram{failed: err})
	})
	f.mu.Lock()
	defer f.mu.Unlock()
	for i, w := range which {
		w.fail(failed[i])
	}
	for _, w := range batch {
		if w.held = false; w.over {
			w.recycle()
		}
	}
}

// expect finds an id that nothing waits for, and waits for it. The numbers of math/rand/v2 come from a cipher (ChaCha8) that the operating
// system seeds, so that ids cannot be foreseen.
func (s *socket) expect(w *waiter, now time.Time) bool {
	for range 64 {
		w.id = uint16(rand.Uint32())
		if s.waiting[w.id] == nil {
			s.waiting[w.id], w.socket = w, s
			w.sent, w.deadline = now, now.Add(w.patience)
			binary.BigEndian.PutUint16(w.asked.octets, w.id)
			return true
		}
	}
	return false
}
