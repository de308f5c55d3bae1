package resolve

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"sync"
	"time"

	"github.com/miekg/dns"

	"beacon/reach"
)

// socket is one UDP socket with the questions that wait for answers on it, by id.
type socket struct {
	packets *reach.Packets
	mu      sync.Mutex
	waiting map[uint16]*waiter
}

// waiter is one question on its way. Waiters are used again.
type waiter struct {
	socket   *socket
	id       uint16
	server   netip.AddrPort
	place    *server // whose place the question takes; nil once that is free again
	edns     bool
	name     string // asked for
	brief    bool
	asked    packed
	sent     time.Time
	deadline time.Time // a tick of the client's clock after it, waiting ends
	answer   chan datagram
	buf      []byte         // of the first datagram; further ones, which are rare, get one of their own
	taken    bool           // buf is
	strange  netip.AddrPort // from where else an answer came
}

type datagram struct {
	octets  []byte
	exactly bool // the question is in it in the very letters
	late    bool // nothing came in time
}

var waiters = sync.Pool{New: func() any { return &waiter{answer: make(chan datagram, 4)} }}

// heard is an answer over UDP.
type heard struct {
	m            *dns.Msg
	took         time.Duration
	otherLetters bool
}

var errFull = errors.New("too many questions are on their way")

// expect finds an id that nothing waits for, and waits for it.
func (s *socket) expect(w *waiter) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for range 64 {
		w.id = uint16(rand.Uint32())
		if s.waiting[w.id] == nil {
			s.waiting[w.id], w.socket = w, s
			binary.BigEndian.PutUint16(w.asked.octets, w.id)
			return nil
		}
	}
	return errFull
}

// free gives the question's place back. The socket is locked, or nobody else has the waiter.
func (w *waiter) free() {
	if w.place != nil {
		w.place.leave()
		w.place = nil
	}
}

// forget ends waiting. Nothing is delivered to the waiter from then on.
func (w *waiter) forget() {
	w.socket.mu.Lock()
	delete(w.socket.waiting, w.id)
	w.free()
	w.socket.mu.Unlock()
	for len(w.answer) > 0 {
		<-w.answer
	}
	waiters.Put(w)
}

// send puts a question on its way, which takes the place that the caller has entered. The numbers of math/rand/v2 come from a cipher (ChaCha8) that the operating system seeds, so
// ids cannot be foreseen.
func (c *Client) send(to *server, q Question, edns bool, patience time.Duration) (*waiter, error) {
	w := waiters.Get().(*waiter)
	w.place = to
	w.server, w.edns, w.name, w.brief, w.taken, w.strange = to.at, edns, q.Name, q.Brief, false, netip.AddrPort{}
	if err := w.asked.pack(q, 0, edns, to.cookie, to.theirCookie(), true); err != nil {
		w.free()
		return nil, err
	}
	sockets := c.sockets6
	if to.at.Addr().Is4() {
		sockets = c.sockets
	}
	if len(sockets) == 0 {
		w.free()
		return nil, errors.New("there is no way to this address from here")
	}
	w.sent = time.Now()
	w.deadline = w.sent.Add(patience)
	if err := sockets[rand.IntN(len(sockets))].expect(w); err != nil {
		w.free()
		return nil, err
	}
	if err := w.socket.packets.Send(w.asked.octets, to.at); err != nil {
		w.forget()
		return nil, plainly(err)
	}
	return w, nil
}

// wait waits for the answer, and gives the waiter back.
func (w *waiter) wait(ctx context.Context, to *server) (heard, error) {
	defer w.forget()
	for {
		select {
		case d := <-w.answer:
			if d.late {
				if w.strange.IsValid() {
					return heard{}, StrangeError{w.strange}
				}
				return heard{}, ErrNoAnswer
			}
			took := time.Since(w.sent)
			w.asked.calm(d.octets)
			m, err := w.read(d.octets)
			var theirs []byte
			if err == nil && w.edns {
				theirs, err = serverCookie(m, to.cookie)
			}
			if err != nil { // it may have been made up by somebody else: the real one may still come
				continue
			}
			if theirs != nil {
				to.keepCookie(theirs)
			}
			return heard{m, took, !d.exactly}, nil
		case <-ctx.Done():
			return heard{}, ctx.Err()
		}
	}
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
	case from != w.server:
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
		w.answer <- datagram{octets: own, exactly: exactly}
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
			for _, sockets := range [][]*socket{c.sockets, c.sockets6} {
				for _, s := range sockets {
					s.expire(now)
				}
			}
		}
	}
}

func (s *socket) expire(now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, w := range s.waiting {
		if now.After(w.deadline) && len(w.answer) == 0 {
			w.answer <- datagram{late: true}
			w.free()
		}
	}
}
