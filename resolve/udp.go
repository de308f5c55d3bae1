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

type waiter struct {
	server  netip.AddrPort
	asked   packed
	answer  chan datagram
	strange netip.AddrPort // from where else an answer came
}

type datagram struct {
	octets  []byte
	exactly bool // the question is in it in the very letters
}

// heard is an answer over UDP.
type heard struct {
	m            *dns.Msg
	otherLetters bool
}

var errFull = errors.New("too many questions are on their way")

// expect finds an id that nothing waits for, and waits for it.
func (s *socket) expect(w *waiter) (uint16, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for range 64 {
		id := uint16(rand.Uint32())
		if s.waiting[id] == nil {
			s.waiting[id] = w
			return id, nil
		}
	}
	return 0, errFull
}

func (s *socket) forget(id uint16) (strange netip.AddrPort) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if w := s.waiting[id]; w != nil {
		strange = w.strange
	}
	delete(s.waiting, id)
	return strange
}

// askUDP sends a question once, and waits for its answer. The numbers of math/rand/v2 come from a cipher (ChaCha8) that
// the operating system seeds, so ids cannot be foreseen.
func (c *Client) askUDP(ctx context.Context, to *server, q Question, edns bool, patience time.Duration) (heard, error) {
	s := c.sockets[rand.IntN(len(c.sockets))]
	w := &waiter{server: to.at, answer: make(chan datagram, 1)}
	cookie, theirs := to.cookie, to.theirCookie()
	asked, err := pack(q, 0, edns, cookie, theirs, true)
	if err != nil {
		return heard{}, err
	}
	w.asked = asked
	id, err := s.expect(w)
	if err != nil {
		return heard{}, err
	}
	binary.BigEndian.PutUint16(asked.octets, id)
	defer s.forget(id)
	if err := s.packets.Send(asked.octets, to.at); err != nil {
		return heard{}, plainly(err)
	}
	timer := time.NewTimer(patience)
	defer timer.Stop()
	for {
		select {
		case d := <-w.answer:
			w.asked.calm(d.octets)
			m, err := read(d.octets)
			if err == nil && edns {
				theirs, err = serverCookie(m, cookie)
			}
			if err != nil { // it may have been made up by somebody else: the real one may still come
				continue
			}
			if theirs != nil {
				to.keepCookie(theirs)
			}
			return heard{m, !d.exactly}, nil
		case <-timer.C:
			if from := s.forget(id); from.IsValid() {
				return heard{}, StrangeError{from}
			}
			return heard{}, ErrNoAnswer
		case <-ctx.Done():
			return heard{}, ctx.Err()
		}
	}
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
	case !fits:
	case from != w.server:
		if exactly {
			w.strange = from
		}
	default:
		select {
		case w.answer <- datagram{append([]byte(nil), octets...), exactly}:
		default: // a second answer to one question
		}
	}
}
