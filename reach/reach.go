// Package reach is the one door to the outside: every outgoing connection and datagram asks it. It holds the networks
// that may be reached, and refuses the rest before a packet is sent.
package reach

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"os"
	"time"

	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"

	"beacon/core/special"
)

// ErrRefused is what a destination outside the allowed networks gives; errors.Is finds it in whatever wraps it.
var ErrRefused = errors.New("this address may not be reached")

// Door returns what may be reached. It is safe for concurrent use. The zero value lets nothing through.
//
// A special-purpose address (package special), such as one of a private network, is reached only where a network was allowed that has nothing but such
// addresses: who can name an address to us cannot have us knock at our neighbours, although everything is allowed.
type Door struct {
	allowed []network
}

type network struct {
	netip.Prefix
	special bool // all of it
}

// Loopback lets connections to this machine through and nothing else, as the demo and all tests do.
func Loopback() *Door {
	d, _ := New([]string{"127.0.0.0/8", "::1/128"})
	return d
}

// New makes a door to the given networks, in CIDR notation.
func New(networks []string) (*Door, error) {
	d := &Door{}
	for _, text := range networks {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			return nil, fmt.Errorf("%q is no network; write it like 192.0.2.0/24", text)
		}
		d.allowed = append(d.allowed, network{p.Masked(), special.Within(p)})
	}
	return d, nil
}

// Local returns a door to the same networks which leads to special-purpose addresses in them, too: for what the person at this machine names, as the
// command line and the database of the settings, and nobody by a request.
func (d *Door) Local() *Door {
	l := &Door{}
	for _, n := range d.allowed {
		l.allowed = append(l.allowed, network{n.Prefix, true})
	}
	return l
}

// ErrSpecial is what a special-purpose address returns that no allowed network is about. It is an ErrRefused, too.
var ErrSpecial = fmt.Errorf("%w: no entry of allowed_networks in the settings names its network", ErrRefused)

// Check refuses addresses outside the allowed networks. An IPv4 address in IPv6 form is judged as the IPv4 address.
func (d *Door) Check(addr netip.Addr) error {
	plain, why := special.Plain(addr), special.Why(addr)
	everything := false
	for _, n := range d.allowed {
		if !n.Contains(plain) {
			continue
		}
		if why == "" || n.special {
			return nil
		}
		everything = true
	}
	if everything {
		return fmt.Errorf("%s %s: %w", addr, why, ErrSpecial)
	}
	return fmt.Errorf("%s: %w", addr, ErrRefused)
}

// dial connects to an address that was checked.
var dial = (&net.Dialer{}).DialContext

// DialContext connects over TCP. A host name is looked up here, and each of its addresses is checked before it is
// tried, so that no name can lead where an address may not.
func (d *Door) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	addrs := []netip.Addr{}
	if addr, err := netip.ParseAddr(host); err == nil {
		addrs = append(addrs, addr)
	} else if addrs, err = net.DefaultResolver.LookupNetIP(ctx, "ip", host); err != nil {
		return nil, err
	}
	var problems []error
	for _, addr := range addrs {
		if err := d.Check(addr); err != nil {
			problems = append(problems, err)
			continue
		}
		conn, err := dial(ctx, network, net.JoinHostPort(addr.Unmap().String(), port))
		if err == nil {
			return conn, nil
		}
		problems = append(problems, err)
	}
	return nil, errors.Join(problems...)
}

// Leads reports whether there is a way to an address from this machine: to IPv6 addresses, many have none. Nothing is sent.
func (d *Door) Leads(to netip.AddrPort) bool {
	if d.Check(to.Addr()) != nil {
		return false
	}
	conn, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(to))
	if err != nil {
		return false
	}
	_ = conn.Close()
	return true
}

// HTTPClient returns a client that goes through this door only: no proxy, no redirects, a time-out on each request.
func (d *Door) HTTPClient(timeout time.Duration) *http.Client {
	return &http.Client{
		Timeout:       timeout,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{DialContext: d.DialContext, MaxIdleConnsPerHost: 8, IdleConnTimeout: 30 * time.Second,
			TLSHandshakeTimeout: timeout, ForceAttemptHTTP2: true},
	}
}

// HTTPClientOver returns the same for connections of one family: tcp4 or tcp6; tcp for either.
func (d *Door) HTTPClientOver(network string, timeout time.Duration) *http.Client {
	c := d.HTTPClient(timeout)
	c.Transport.(*http.Transport).DialContext = func(ctx context.Context, _, address string) (net.Conn, error) {
		return d.DialContext(ctx, network, address)
	}
	return c
}

// Group opens a UDP socket over IPv4 that hears what is sent to a group on the local networks, or to an address of this machine. Nothing is sent.
func (d *Door) Group(at netip.AddrPort) (*net.UDPConn, error) {
	if at.Addr().IsMulticast() {
		return net.ListenMulticastUDP("udp4", nil, net.UDPAddrFromAddrPort(at))
	}
	return net.ListenUDP("udp4", net.UDPAddrFromAddrPort(at))
}

// Packets is a UDP socket whose every datagram is checked.
type Packets struct {
	*net.UDPConn
	door  *Door
	batch interface {
		WriteBatch(list []Message, flags int) (int, error)
	}
}

// Message is one datagram of many, in its first buffer, to a *net.UDPAddr.
type Message = ipv4.Message

// ListenPackets opens a UDP socket for both families on a random port.
func (d *Door) ListenPackets() (*Packets, error) { return d.listenPackets("udp") }

// ListenPackets4 opens a UDP socket for IPv4 on a random port.
func (d *Door) ListenPackets4() (*Packets, error) { return d.listenPackets("udp4") }

// ListenPackets6 opens a UDP socket for IPv6 on a random port.
func (d *Door) ListenPackets6() (*Packets, error) { return d.listenPackets("udp6") }

func (d *Door) listenPackets(network string) (*Packets, error) {
	conn, err := net.ListenUDP(network, nil)
	if err != nil {
		return nil, err
	}
	if network == "udp6" {
		return &Packets{conn, d, ipv6.NewPacketConn(conn)}, nil
	}
	return &Packets{conn, d, ipv4.NewPacketConn(conn)}, nil
}

// Send sends one datagram, if its destination may be reached.
func (p *Packets) Send(b []byte, to netip.AddrPort) error {
	if err := p.door.Check(to.Addr()); err != nil {
		return err
	}
	_, err := p.WriteToUDPAddrPort(b, to)
	return err
}

// SendAll sends many datagrams of the socket's own family, in as few calls of the operating system as may be, and tells of each that could not be sent.
func (p *Packets) SendAll(list []Message, failed func(i int, err error)) {
	may := func(m Message) error {
		to, ok := m.Addr.(*net.UDPAddr)
		if !ok {
			return fmt.Errorf("%v is no address of a UDP socket", m.Addr)
		}
		return p.door.Check(to.AddrPort().Addr())
	}
	for i := 0; i < len(list); {
		if err := may(list[i]); err != nil {
			failed(i, err)
			i++
			continue
		}
		end := i + 1
		for end < len(list) && may(list[end]) == nil {
			end++
		}
		n, err := p.batch.WriteBatch(list[i:end], 0)
		if i += max(n, 0); err != nil && i < end { // those before the one that fails were sent
			failed(i, err)
			i++
		}
	}
}

// ServerSockets opens both sockets of a DNS server at one address, or neither. It answers where it was asked from, and
// asks nobody, so that no door is needed.
func ServerSockets(listen string) (net.PacketConn, net.Listener, error) {
	packets, err := net.ListenPacket("udp", listen)
	if err != nil {
		return nil, nil, err
	}
	stream, err := net.Listen("tcp", listen)
	if err != nil {
		_ = packets.Close()
		return nil, nil, err
	}
	return packets, stream, nil
}

// Authorities returns the certificates that are trusted: the system's, and those in a file (PEM) besides. Where no file is
// named it is nil, which stands for the system's alone.
func Authorities(file string) (*x509.CertPool, error) {
	if file == "" {
		return nil, nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("%s holds no certificate in PEM form", file)
	}
	return pool, nil
}
