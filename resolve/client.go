// Package resolve asks nameservers and resolvers, and brings back evidence. client.go puts one question to one
// address; walk.go goes from the root to a domain's parent and to its nameservers; sweep.go makes one round of all
// questions that a check needs. Nothing is judged here: that is core/delegation's.
package resolve

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"beacon/reach"
)

// ErrNoAnswer is what a question gives when every try timed out.
var ErrNoAnswer = errors.New("no answer in time")

// udpSize is the largest answer taken over UDP, in octets (the value of the DNS flag day 2020, safe on all paths).
const udpSize = 1232

// Question is what to ask.
type Question struct {
	Name    string // absolute, in presentation form
	Type    uint16
	Recurse bool // set RD, as for resolvers
}

// Options tune a client; zero values give the defaults.
type Options struct {
	Timeout time.Duration // of one try; 1.5 s
	Tries   int           // over UDP; 2
}

// Client asks over a few UDP sockets, many questions at once, and over TCP where an answer does not fit. Answers count
// only from the address asked, with the id and the question sent. It is safe for concurrent use.
type Client struct {
	door    *reach.Door
	opt     Options
	sockets []*socket
}

const numSockets = 4

// NewClient opens the sockets. Close gives them back.
func NewClient(door *reach.Door, opt Options) (*Client, error) {
	if opt.Timeout == 0 {
		opt.Timeout = 1500 * time.Millisecond
	}
	if opt.Tries == 0 {
		opt.Tries = 2
	}
	c := &Client{door: door, opt: opt}
	for range numSockets {
		packets, err := door.ListenPackets()
		if err != nil {
			c.Close()
			return nil, fmt.Errorf("opening a socket for DNS: %w", err)
		}
		s := &socket{packets: packets, waiting: map[waitKey]*waiter{}, done: make(chan struct{})}
		c.sockets = append(c.sockets, s)
		go s.read()
	}
	return c, nil
}

// Close closes the sockets and waits for their readers.
func (c *Client) Close() {
	for _, s := range c.sockets {
		s.packets.Close()
		<-s.done
	}
}

// Ask puts q to server: over UDP with EDNS, without EDNS where that is not understood (RFC 6891 section 7), over TCP
// where the answer was truncated. Each try has its time-out, and there are few of them.
func (c *Client) Ask(ctx context.Context, server netip.AddrPort, q Question) (*dns.Msg, error) {
	var last error
	edns := true
	for range c.opt.Tries {
		m, err := c.askUDP(ctx, server, q, edns)
		switch {
		case err != nil:
			if last = err; ctx.Err() != nil || !errors.Is(err, ErrNoAnswer) {
				return nil, err
			}
		case m.Truncated:
			return c.AskTCP(ctx, server, q)
		case edns && (m.Rcode == dns.RcodeFormatError || m.Rcode == dns.RcodeNotImplemented):
			edns, last = false, fmt.Errorf("it answers %s", dns.RcodeToString[m.Rcode])
		default:
			return m, nil
		}
	}
	return nil, last
}

func message(q Question, edns bool) (*dns.Msg, error) {
	var id [2]byte
	if _, err := rand.Read(id[:]); err != nil {
		return nil, err
	}
	m := &dns.Msg{MsgHdr: dns.MsgHdr{Id: binary.BigEndian.Uint16(id[:]), RecursionDesired: q.Recurse},
		Question: []dns.Question{{Name: q.Name, Qtype: q.Type, Qclass: dns.ClassINET}}}
	if edns {
		m.SetEdns0(udpSize, false)
	}
	return m, nil
}

func (c *Client) askUDP(ctx context.Context, server netip.AddrPort, q Question, edns bool) (*dns.Msg, error) {
	m, err := message(q, edns)
	if err != nil {
		return nil, err
	}
	packed, err := m.Pack()
	if err != nil {
		return nil, fmt.Errorf("the question cannot be put: %w", err)
	}
	s := c.sockets[int(m.Id)%len(c.sockets)]
	w, key, err := s.expect(m, server)
	if err != nil {
		return nil, err
	}
	defer s.forget(key)
	if err := s.packets.Send(packed, server); err != nil {
		return nil, err
	}
	timer := time.NewTimer(c.opt.Timeout)
	defer timer.Stop()
	select {
	case answer := <-w.answer:
		return answer, nil
	case <-timer.C:
		return nil, ErrNoAnswer
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// AskTCP puts q to server over TCP (RFC 7766), once.
func (c *Client) AskTCP(ctx context.Context, server netip.AddrPort, q Question) (*dns.Msg, error) {
	ctx, cancel := context.WithTimeout(ctx, 2*c.opt.Timeout)
	defer cancel()
	m, err := message(q, true)
	if err != nil {
		return nil, err
	}
	conn, err := c.door.DialContext(ctx, "tcp", server.String())
	if err != nil {
		return nil, plainly(err)
	}
	defer conn.Close()
	deadline, _ := ctx.Deadline()
	if err := conn.SetDeadline(deadline); err != nil {
		return nil, err
	}
	stream := &dns.Conn{Conn: conn}
	if err := stream.WriteMsg(m); err != nil {
		return nil, plainly(err)
	}
	answer, err := stream.ReadMsg()
	if err != nil {
		return nil, plainly(err)
	}
	if !answers(answer, m) {
		return nil, errors.New("the answer over TCP is to another question")
	}
	return answer, nil
}

// plainly says what happened to a connection without addresses and system call names.
func plainly(err error) error {
	var timeout net.Error
	switch {
	case errors.As(err, &timeout) && timeout.Timeout():
		return ErrNoAnswer
	case errors.Is(err, reach.ErrRefused):
		return err
	case errors.Is(err, io.EOF):
		return errors.New("the connection was closed without an answer")
	case strings.Contains(err.Error(), "connection refused"):
		return errors.New("connection refused")
	}
	return err
}

// answers reports whether m is an answer to q: id and question, names compared without case (RFC 5452 section 9.1).
func answers(m, q *dns.Msg) bool {
	return m.Response && m.Id == q.Id && len(m.Question) == 1 && m.Question[0].Qtype == q.Question[0].Qtype &&
		m.Question[0].Qclass == q.Question[0].Qclass && strings.EqualFold(m.Question[0].Name, q.Question[0].Name)
}

type waitKey struct {
	id     uint16
	server netip.AddrPort
}

type waiter struct {
	question *dns.Msg
	answer   chan *dns.Msg
}

// socket is one UDP socket with the questions that wait for answers on it.
type socket struct {
	packets *reach.Packets
	done    chan struct{}
	mu      sync.Mutex
	waiting map[waitKey]*waiter
}

func (s *socket) expect(q *dns.Msg, server netip.AddrPort) (*waiter, waitKey, error) {
	key := waitKey{q.Id, netip.AddrPortFrom(server.Addr().Unmap(), server.Port())}
	w := &waiter{q, make(chan *dns.Msg, 1)}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.waiting[key] != nil {
		return nil, key, fmt.Errorf("two questions met under one id: %w", ErrNoAnswer) // rare; the next try has another
	}
	s.waiting[key] = w
	return w, key, nil
}

func (s *socket) forget(key waitKey) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.waiting, key)
}

// read hands each datagram to the question it answers, and drops all others.
func (s *socket) read() {
	defer close(s.done)
	buf := make([]byte, 65535)
	for {
		n, from, err := s.packets.ReadFromUDPAddrPort(buf)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		m := new(dns.Msg)
		if err != nil || n < 12 || m.Unpack(buf[:n]) != nil && !m.Truncated {
			continue
		}
		key := waitKey{m.Id, netip.AddrPortFrom(from.Addr().Unmap(), from.Port())}
		s.mu.Lock()
		w := s.waiting[key]
		s.mu.Unlock()
		if w != nil && answers(m, w.question) {
			select {
			case w.answer <- m:
			default: // a second answer to one question
			}
		}
	}
}
