package api

import (
	"net"
	"net/netip"
	"sync"
)

// How many connections are open at a time: of all clients, and of one address, unless it is a proxy that the settings trust.
const (
	mostConnections = 4096
	mostOfAnAddress = 256
)

// Bounded returns a listener that closes connections beyond those bounds at once, and, with onlyTrusted, those that come neither from a trusted proxy nor
// from this machine: without TLS nobody else is to talk to the service.
func Bounded(l net.Listener, trusted []string, onlyTrusted bool) net.Listener {
	b := &bounded{Listener: l, only: onlyTrusted, open: map[netip.Addr]int{}}
	for _, text := range trusted {
		if p, err := netip.ParsePrefix(text); err == nil {
			b.trusted = append(b.trusted, p)
		}
	}
	return b
}

type bounded struct {
	net.Listener
	trusted []netip.Prefix
	only    bool // no others

	mu   sync.Mutex
	open map[netip.Addr]int
	all  int
}

// Accept returns the next connection that is within the bounds.
func (b *bounded) Accept() (net.Conn, error) {
	for {
		conn, err := b.Listener.Accept()
		if err != nil {
			return nil, err
		}
		var from netip.Addr
		if at, err := netip.ParseAddrPort(conn.RemoteAddr().String()); err == nil {
			from = at.Addr().Unmap()
		}
		if b.enter(from) {
			return &counted{Conn: conn, leave: sync.OnceFunc(func() { b.leave(from) })}, nil
		}
		_ = conn.Close()
	}
}

func (b *bounded) enter(from netip.Addr) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.only && !b.trusts(from) && !from.IsLoopback() {
		return false
	}
	if b.all >= mostConnections || b.open[from] >= mostOfAnAddress && !b.trusts(from) {
		return false
	}
	b.all++
	b.open[from]++
	return true
}

func (b *bounded) trusts(from netip.Addr) bool {
	for _, p := range b.trusted {
		if p.Contains(from) {
			return true
		}
	}
	return false
}

func (b *bounded) leave(from netip.Addr) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.all--
	if b.open[from]--; b.open[from] == 0 {
		delete(b.open, from)
	}
}

// counted is a connection that is counted until it is closed.
type counted struct {
	net.Conn
	leave func()
}

// Close closes the connection.
func (c *counted) Close() error {
	c.leave()
	return c.Conn.Close()
}
