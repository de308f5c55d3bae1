package reporter

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"time"

	"beacon/core/reporter"
)

// How a router is asked: first after so long again, then after twice as long each time (RFC 6886 section 3.1), so many times; and for how long a mapping lasts that is not taken back.
const (
	routerWait  = 250 * time.Millisecond
	routerTries = 4
	mappingLife = 2 * time.Minute
)

var errNoAnswer = errors.New("it does not answer; is NAT-PMP or PCP switched on there?")

// askRouter asks a router for the address of its line: over NAT-PMP, and over PCP where it knows that alone. at is its address and port, empty for the gateway.
func (r *Reporter) askRouter(ctx context.Context, at string) (netip.Addr, error) {
	to, err := netip.ParseAddrPort(at)
	if at == "" {
		a, wrong := gateway()
		to, err = netip.AddrPortFrom(a, reporter.RouterPort), wrong
	}
	if err != nil {
		return netip.Addr{}, err
	}
	socket, err := r.Door.ListenPackets4()
	if err != nil {
		return netip.Addr{}, err
	}
	defer socket.Close()
	r.heard(to.Addr())
	e, err := exchange(ctx, socket, to, reporter.AskNATPMP(), reporter.ReadNATPMP)
	if err == nil || !errors.Is(err, reporter.ErrVersion) && !errors.Is(err, errNoAnswer) {
		return e.Addr, err
	}
	over, wrong := r.askPCP(ctx, to)
	if wrong != nil {
		return netip.Addr{}, wrong
	}
	return over, nil
}

// packets are sockets that send to one router.
type packets interface {
	Send(b []byte, to netip.AddrPort) error
	ReadFromUDPAddrPort(b []byte) (int, netip.AddrPort, error)
	SetReadDeadline(t time.Time) error
	LocalAddr() net.Addr
}

// exchange asks until the router answers. Answers from elsewhere are passed over.
func exchange(ctx context.Context, socket packets, to netip.AddrPort, ask []byte, read func([]byte) (reporter.External, error)) (e reporter.External, err error) {
	buf := make([]byte, 1100) // the longest message of PCP
	wait := routerWait
	for range routerTries {
		if err := socket.Send(ask, to); err != nil {
			return e, err
		}
		if err := socket.SetReadDeadline(time.Now().Add(wait)); err != nil {
			return e, err
		}
		for {
			n, from, err := socket.ReadFromUDPAddrPort(buf)
			if err != nil {
				if ctx.Err() != nil {
					return e, ctx.Err()
				}
				if !errors.Is(err, os.ErrDeadlineExceeded) { // the port is closed
					time.Sleep(wait / 8)
				}
				break
			}
			if netip.AddrPortFrom(from.Addr().Unmap(), from.Port()) != to {
				continue
			}
			return read(buf[:n])
		}
		wait *= 2
	}
	return e, errNoAnswer
}

// askPCP has a short mapping made, sees from which address, and takes it back.
func (r *Reporter) askPCP(ctx context.Context, to netip.AddrPort) (netip.Addr, error) {
	conn, err := r.Door.DialContext(ctx, "udp4", to.String()) // so that it is known which of our addresses leads there
	if err != nil {
		return netip.Addr{}, err
	}
	defer conn.Close()
	local, err := netip.ParseAddrPort(conn.LocalAddr().String())
	if err != nil {
		return netip.Addr{}, err
	}
	m := reporter.Mapping{Client: local.Addr().Unmap(), Port: local.Port(), Lifetime: mappingLife}
	_, _ = rand.Read(m.Nonce[:]) // it never fails (crypto/rand)
	ask := func(m reporter.Mapping) (reporter.External, error) {
		return exchange(ctx, connected{conn, to}, to, reporter.AskPCP(m), func(b []byte) (reporter.External, error) { return reporter.ReadPCP(b, m) })
	}
	e, err := ask(m)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("PCP: %w", err)
	}
	back := m
	back.Lifetime = 0
	if _, err := ask(back); err != nil { // it ends by itself after two minutes
		r.note("the router did not take the mapping back: %s", err)
	}
	return e.Addr, nil
}

// connected is a socket that is connected to a router.
type connected struct {
	net.Conn
	to netip.AddrPort
}

func (c connected) Send(b []byte, _ netip.AddrPort) error { _, err := c.Write(b); return err }
func (c connected) ReadFromUDPAddrPort(b []byte) (int, netip.AddrPort, error) {
	n, err := c.Read(b)
	return n, c.to, err
}

// heard remembers which router is asked: announcements of others are passed over.
func (r *Reporter) heard(router netip.Addr) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.routers == nil {
		r.routers = map[netip.Addr]bool{}
	}
	r.routers[router] = true
}

// listen calls changed whenever a router that is asked announces another address (RFC 6886 section 3.2.1), until ctx ends.
func (r *Reporter) listen(ctx context.Context, changed func()) error {
	conn, err := r.Door.Group(r.Announcements)
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	buf := make([]byte, 1100)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buf)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		r.mu.Lock()
		ours := r.routers[from.Addr().Unmap()]
		r.mu.Unlock()
		_, err = reporter.ReadNATPMP(buf[:n])
		if ours && (err == nil || errors.Is(err, reporter.ErrVersion)) { // PCP announces in its own version
			changed()
		}
	}
}
