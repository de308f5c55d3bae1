package resolve

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/miekg/dns"

	"beacon/reach"
)

// family is the UDP sockets of one address family, with the questions that are to be sent through them.
type family struct {
	mu      sync.Mutex // of all that its sockets and waiters share
	sockets []*socket
	old     []*socket // that take no further questions, and are closed when the last of theirs has ended
	open    func() (*socket, error)
	queue   []*waiter     // not sent yet
	called  chan struct{} // the sender was
	closed  bool
}

// socket is one UDP socket with the questions that wait for answers on it, by id.
type socket struct {
	*family
	packets *reach.Packets
	waiting map[uint16]*waiter
	uses    int       // questions that were sent through it
	first   time.Time // when the first was
}

// waiter is one question on its way. Waiters are used again.
type waiter struct {
	family   *family
	socket   *socket // nil before it is sent
	id       uint16
	to       *server
	place    bool // the question takes a place at the server
	held     bool // the sender has it, or will
	over     bool // nobody waits any more
	edns     bool
	name     string // asked for
	brief    bool
	asked    packed
	patience time.Duration // from when it is sent
	sent     time.Time
	deadline time.Time // a tick of the client's clock after it, waiting ends
	answer   chan datagram
	buf      []byte         // of the first datagram; further ones, which are rare, get one of their own
	taken    bool           // buf is
	strange  netip.AddrPort // from where else an answer came
}

type datagram struct {
	octets  []byte
	took    time.Duration // until it came
	exactly bool          // the question is in it in the very letters
	late    bool          // nothing came in time
	failed  error         // it could not be sent
}

var waiters = sync.Pool{New: func() any { return &waiter{answer: make(chan datagram, 4)} }}

// heard is an answer over UDP.
type heard struct {
	m            *dns.Msg
	took         time.Duration
	otherLetters bool
	bare         bool // an error without the question
	noCookie     bool // the server is known to have cookies, and there is none in it
}

// free returns the question's place back. The family is locked, or nobody else has the waiter.
func (w *waiter) free() {
	if w.place {
		w.to.leave()
		w.place = false
	}
}

// forget ends waiting. Nothing is delivered to the waiter from then on.
func (w *waiter) forget() {
	w.family.mu.Lock()
	if w.socket != nil {
		delete(w.socket.waiting, w.id)
	}
	w.free()
	w.over = true
	held := w.held
	w.family.mu.Unlock()
	if !held {
		w.recycle()
	}
}

func (w *waiter) recycle() {
	for len(w.answer) > 0 {
		<-w.answer
	}
	w.to, w.socket = nil, nil
	waiters.Put(w)
}

// wait waits for the answer, and gives the waiter back.
func (w *waiter) wait(ctx context.Context) (heard, error) {
	defer w.forget()
	for {
		d, err := w.next(ctx)
		if err != nil {
			return heard{}, err
		}
		w.asked.calm(d.octets)
		m, err := w.read(d.octets)
		var theirs []byte
		if err == nil && w.edns {
			theirs, err = serverCookie(m, w.to.cookie)
		}
		if err != nil { // it may be forged: the real one may still come
			continue
		}
		h := heard{m: m, took: d.took, otherLetters: !d.exactly, bare: len(m.Question) == 0}
		if theirs != nil {
			w.to.keepCookie(theirs)
		} else if w.edns && !h.bare {
			h.noCookie = w.to.missesCookie()
		}
		return h, nil
	}
}

// next waits for a datagram that may be the answer.
func (w *waiter) next(ctx context.Context) (d datagram, err error) {
	select {
	case d = <-w.answer: // most often, for many answers are waited for in turn
	default:
		select {
		case d = <-w.answer:
		case <-ctx.Done():
			return d, ctx.Err()
		}
	}
	switch {
	case d.failed != nil:
		return d, plainly(d.failed)
	case d.late && w.strange.IsValid():
		return d, StrangeError{w.strange}
	case d.late:
		return d, ErrNoAnswer
	}
	return d, nil
}

// read reads an answer, as thoroughly as was asked for.
func (w *waiter) read(octets []byte) (*dns.Msg, error) {
	if w.brief {
		if m, err := book.readBriefly(octets, w.name); m != nil || err != nil {
			return m, err
		}
	}
	return read(octets)
}

// read reads a message. What is cut off in the middle counts only where it says so itself.
func read(octets []byte) (m *dns.Msg, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("the message cannot be read: %v", r)
		}
	}()
	m = new(dns.Msg)
	if err = m.Unpack(octets); err != nil && !m.Truncated {
		return nil, err
	}
	return m, nil
}

// read hands each datagram to the question it answers, and drops all others.
func (s *socket) read() {
	buf := make([]byte, 65535)
	for {
		n, from, err := s.packets.ReadFromUDPAddrPort(buf)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil || n < headerLen {
			continue
		}
		s.deliver(buf[:n], netip.AddrPortFrom(from.Addr().Unmap(), from.Port()))
	}
}

func (s *socket) deliver(octets []byte, from netip.AddrPort) {
	s.mu.Lock()
	defer s.mu.Unlock()
	w := s.waiting[binary.BigEndian.Uint16(octets)]
	if w == nil {
		return
	}
	fits, exactly := w.asked.answers(octets)
	switch {
	case !fits || len(w.answer) == cap(w.answer):
	case from != w.to.at:
		if exactly {
			w.strange = from
		}
	default:
		own := w.buf[:0]
		if w.taken {
			own = nil
		}
		own = append(own, octets...)
		if !w.taken {
			w.buf, w.taken = own, true
		}
		w.answer <- datagram{octets: own, took: time.Since(w.sent), exactly: exactly}
		w.free()
	}
}

// tick is how exact time-outs over UDP are.
const tick = 20 * time.Millisecond

// watch ends the waiting of those whose time is over: one clock for all is cheaper than one for each.
func (c *Client) watch() {
	ticker := time.NewTicker(tick)
	defer ticker.Stop()
	for {
		select {
		case <-c.ended:
			return
		case now := <-ticker.C:
			c.mu.Lock()
			c.now = now
			c.mu.Unlock()
			c.four.expire(now)
			c.six.expire(now)
		}
	}
}

func (f *family) expire(now time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.each(func(w *waiter) {
		if now.After(w.deadline) {
			w.fail(datagram{late: true})
		}
	})
	for i, s := range f.sockets {
		if s.uses > 0 && now.Sub(s.first) > portLife {
			f.renew(i)
		}
	}
	f.old = slices.DeleteFunc(f.old, func(s *socket) bool {
		if len(s.waiting) > 0 {
			return false
		}
		_ = s.packets.Close()
		return true
	})
}

// each calls do for each question that waits. The family is locked.
func (f *family) each(do func(*waiter)) {
	for _, list := range [][]*socket{f.sockets, f.old} {
		for _, s := range list {
			for _, w := range s.waiting {
				do(w)
			}
		}
	}
}

// renew puts a new socket, on another port, in the place of one; where none can be opened, it stays. The family is locked.
func (f *family) renew(i int) {
	if f.closed {
		return
	}
	if s, err := f.open(); err == nil {
		f.old = append(f.old, f.sockets[i])
		f.sockets[i] = s
	}
}

// retired returns how many sockets take no further questions and are still open.
func (f *family) retired() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return len(f.old)
}

// fail returns who waits that nothing comes any more, unless something is there. The family is locked.
func (w *waiter) fail(d datagram) {
	if len(w.answer) == 0 {
		w.answer <- d
	}
	w.free()
}
