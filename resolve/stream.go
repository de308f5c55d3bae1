package resolve

import (
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"

	"beacon/reach"
)

// streamKey returns which connection serves a question.
type streamKey struct {
	at   netip.AddrPort
	tls  bool
	name string // of the certificate
	own  bool   // of one question whose answer may go on: it is ended after the first message, and carries no other
}

// idleTime is how long a connection without questions is kept (RFC 7766 section 6.2.3).
const idleTime = 4 * time.Second

// stream is one connection with the questions that wait for answers on it, which may come in any order.
type stream struct {
	ready   chan struct{} // closed once conn is there, or err
	conn    net.Conn
	writing sync.Mutex
	mu      sync.Mutex
	err     error
	waiting map[uint16]*waiter
	ended   chan struct{}
}

// AskTCP puts q to a server over TCP (RFC 7766).
func (c *Client) AskTCP(ctx context.Context, at netip.AddrPort, q Question) (Reply, error) {
	return c.askStream(ctx, streamKey{at: netip.AddrPortFrom(at.Addr().Unmap(), at.Port())}, q)
}

// AskApart is AskTCP over a connection that carries no other question, and that ends with the first message of the answer: more of it may come.
func (c *Client) AskApart(ctx context.Context, at netip.AddrPort, q Question) (Reply, error) {
	key := streamKey{at: netip.AddrPortFrom(at.Addr().Unmap(), at.Port()), own: true}
	defer c.hangUp(key)
	return c.askStream(ctx, key, q)
}

// askStream asks over a connection that is there, else over a new one. One that broke off under other questions says nothing
// of this one: it is asked once more.
func (c *Client) askStream(ctx context.Context, key streamKey, q Question) (Reply, error) {
	patience := c.server(key.at).streamPatience(c.opt.Timeout)
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	began := time.Now()
	for try := 0; ; try++ {
		s, fresh := c.stream(key)
		r, err := s.ask(ctx, q, patience)
		if err == nil {
			r.Took, r.Tries = time.Since(began), try+1
			r.Over = OverTCP
			if key.tls {
				r.Over = OverTLS
			}
			return r, nil
		}
		c.drop(key, s)
		if fresh || try > 0 || ctx.Err() != nil || errors.Is(err, ErrNoAnswer) {
			return Reply{}, plainly(err)
		}
	}
}

// stream returns the connection for a key; fresh tells that it is a new one.
func (c *Client) stream(key streamKey) (s *stream, fresh bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if s := c.streams[key]; s != nil && !s.over() {
		return s, false
	}
	s = &stream{ready: make(chan struct{}), waiting: map[uint16]*waiter{}, ended: make(chan struct{})}
	if c.closed {
		s.err = errClosed
		close(s.ready)
		return s, true
	}
	c.streams[key] = s
	c.workers.Go(func() {
		defer c.drop(key, s)
		s.run(c, key)
	})
	return s, true
}

func (c *Client) drop(key streamKey, s *stream) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.streams[key] == s {
		delete(c.streams, key)
	}
}

func (s *stream) over() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err != nil
}

// run connects, and hands out answers until the connection ends.
func (s *stream) run(c *Client, key streamKey) {
	ctx, cancel := context.WithTimeout(context.Background(), 2*c.opt.Timeout)
	defer cancel()
	go func() { // closing the client ends connecting too
		select {
		case <-s.ended:
			cancel()
		case <-ctx.Done():
		}
	}()
	conn, err := c.door.DialContext(ctx, "tcp", key.at.String())
	if err == nil && key.tls {
		name := key.name
		if name == "" {
			name = key.at.Addr().String()
		}
		secured := tls.Client(conn, &tls.Config{ServerName: name, RootCAs: c.opt.Roots, NextProtos: []string{"dot"}, MinVersion: tls.VersionTLS12})
		if err = secured.HandshakeContext(ctx); err != nil {
			conn.Close()
		}
		conn = secured
	}
	s.mu.Lock()
	if s.err != nil && err == nil {
		conn.Close()
		err = s.err
	}
	s.conn = conn
	s.mu.Unlock()
	if err != nil {
		s.end(err)
		close(s.ready)
		return
	}
	close(s.ready)
	s.end(s.read())
	conn.Close()
}

func (s *stream) read() error {
	var length [2]byte
	buf := make([]byte, 65535)
	for {
		if err := s.conn.SetReadDeadline(time.Now().Add(idleTime)); err != nil {
			return err
		}
		if _, err := io.ReadFull(s.conn, length[:]); err != nil {
			return err
		}
		m := buf[:binary.BigEndian.Uint16(length[:])]
		if _, err := io.ReadFull(s.conn, m); err != nil { // under the same deadline, however slowly it drips
			return err
		}
		if len(m) >= headerLen {
			s.deliver(m)
		}
	}
}

func (s *stream) deliver(octets []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if w := s.waiting[binary.BigEndian.Uint16(octets)]; w != nil {
		fits, exactly := w.asked.answers(octets)
		if !fits {
			return
		}
		select {
		case w.answer <- datagram{octets: append([]byte(nil), octets...), exactly: exactly}:
		default:
		}
	}
}

// end marks the connection as over for the given reason and closes it.
func (s *stream) end(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err != nil {
		return
	}
	s.err = err
	close(s.ended)
	if s.conn != nil {
		s.conn.Close()
	}
}

func (s *stream) reason() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}

// ask sends a question on the connection and waits for its answer.
func (s *stream) ask(ctx context.Context, q Question, patience time.Duration) (Reply, error) {
	select {
	case <-s.ready:
	case <-ctx.Done():
		return Reply{}, ErrNoAnswer
	}
	w := &waiter{answer: make(chan datagram, 1)}
	if err := w.asked.pack(q, 0, true, nil, nil, false); err != nil {
		return Reply{}, err
	}
	id, err := s.expect(w)
	if err != nil {
		return Reply{}, err
	}
	defer s.forget(id)
	framed := binary.BigEndian.AppendUint16(nil, uint16(len(w.asked.octets)))
	framed = append(framed, w.asked.octets...)
	binary.BigEndian.PutUint16(framed[2:], id)
	if err := s.write(framed, patience); err != nil {
		return Reply{}, err
	}
	select {
	case d := <-w.answer:
		m, err := read(d.octets)
		if err != nil {
			s.end(err)
			return Reply{}, errors.New("its answer over TCP cannot be read")
		}
		return Reply{Msg: m}, nil
	case <-s.ended:
		return Reply{}, s.reason()
	case <-ctx.Done():
		s.end(ErrNoAnswer) // what comes late would be for nobody, and what never ends must not be kept
		return Reply{}, ErrNoAnswer
	}
}

func (s *stream) expect(w *waiter) (uint16, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err != nil {
		return 0, s.err
	}
	for range 64 {
		if id := uint16(rand.Uint32()); s.waiting[id] == nil {
			s.waiting[id] = w
			return id, nil
		}
	}
	return 0, errFull
}

func (s *stream) forget(id uint16) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.waiting, id)
}

func (s *stream) write(b []byte, patience time.Duration) error {
	s.writing.Lock()
	defer s.writing.Unlock()
	if err := s.conn.SetDeadline(time.Now().Add(max(patience, idleTime))); err != nil {
		return err
	}
	_, err := s.conn.Write(b)
	return err
}

// plainly returns what happened to a connection without addresses and system call names.
func plainly(err error) error {
	var timeout net.Error
	var strange *tls.CertificateVerificationError
	switch {
	case errors.As(err, &strange):
		return fmt.Errorf("its certificate is not trusted: %w", strange.Err)
	case errors.As(err, &timeout) && timeout.Timeout():
		return ErrNoAnswer
	case errors.Is(err, reach.ErrRefused):
		return err
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return errors.New("the connection was closed without an answer")
	case strings.Contains(err.Error(), "connection refused"):
		return errors.New("connection refused")
	case strings.Contains(err.Error(), "connection reset"):
		return errors.New("the connection was broken off")
	case strings.Contains(err.Error(), "unreachable"):
		return errors.New("there is no way to this address from here")
	}
	return err
}

// hangUp ends a connection.
func (c *Client) hangUp(key streamKey) {
	c.mu.Lock()
	s := c.streams[key]
	c.mu.Unlock()
	if s != nil {
		s.end(errors.New("the connection was given up"))
	}
}
