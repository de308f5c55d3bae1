// Package resolve asks nameservers and resolvers, and brings back evidence. client.go puts one question to one address, by way of
// udp.go (send.go sends in batches), stream.go and https.go, with what peer.go remembers of the address; walk.go goes from the root to a domain's
// parent and to its nameservers; sweep.go makes one round of all questions that a check needs, and
// briefsweep.go of the few that a look at thousands of domains takes. Nothing is judged here: that is
// core/delegation's.
package resolve

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"github.com/miekg/dns"

	"beacon/reach"
)

// ErrNoAnswer is what a question gives when every try timed out.
var ErrNoAnswer = errors.New("no answer in time")

// StrangeError means that nothing came from the address that was asked, but something from another one, which does not count.
type StrangeError struct{ From netip.AddrPort }

func (e StrangeError) Error() string {
	return fmt.Sprintf("no answer in time; one came from %s instead, which does not count", e.From)
}

// Unwrap makes it a kind of ErrNoAnswer.
func (e StrangeError) Unwrap() error { return ErrNoAnswer }

// GCPercent is how far the heap of a program that checks thousands of domains should grow before garbage is looked for, in percent of
// what was alive: checks make much garbage that lives for milliseconds, and little that stays, so that looking less often costs tens
// of megabytes and saves a sixth of the time.
const GCPercent = 400

// udpSize is the largest answer taken over UDP, in octets (the value of the DNS flag day 2020, safe on all paths).
const udpSize = 1232

// Question is what to ask.
type Question struct {
	Name      string // absolute, in presentation form
	Type      uint16
	Recurse   bool // set RD, as for resolvers
	Signed    bool // set DO: signatures are desired (RFC 3225)
	Unchecked bool // set CD: a validating resolver returns answers that fail validation (RFC 4035 section 3.2.2)
	Brief     bool // of an answer the answer section counts alone; it is one of very many

	// Visitor is the IPv4 network that the question is asked for (RFC 7871); the zero value for none.
	Visitor netip.Prefix
}

// Transport is how a question travels.
type Transport string

// The transports. The zero value is UDP, with TCP where an answer does not fit.
const (
	OverUDP   Transport = "udp"
	OverTCP   Transport = "tcp"
	OverTLS   Transport = "tls"   // RFC 7858
	OverHTTPS Transport = "https" // RFC 8484
)

// Reply is an answer, and how it was had.
type Reply struct {
	*dns.Msg
	Over      Transport
	Took      time.Duration // of the try that was answered
	Tries     int
	Truncated bool // it did not fit over UDP, and was fetched over TCP
	NoEDNS    bool // the server does not understand EDNS, and was asked without
	NoUDP     bool // over UDP nothing came
}

// Options tune a client; zero values give the defaults.
type Options struct {
	Timeout   time.Duration  // of a first try at most; 1.2 s. Further tries, and servers known to be slow, get up to 2.5 times as long.
	PerServer int            // open questions to one address; 64, and 512 where there is no limit in a second
	PerSecond int            // questions to one address in a second, out of politeness; 100. Negative for no limit.
	Roots     *x509.CertPool // whom DNS over TLS and HTTPS trust; the system's roots
}

// Client asks over a few UDP sockets, many questions at once, and over TCP where an answer does not fit. Answers count
// only from the address asked, with the id and the question sent, in the very letters (RFC 5452). It is safe for concurrent use.
type Client struct {
	door    *reach.Door
	opt     Options
	secret  [32]byte // for cookies
	four    family
	six     family // without sockets where this machine has no IPv6
	ended   chan struct{}
	http    *http.Client
	mu      sync.Mutex
	now     time.Time // about
	servers map[netip.AddrPort]*server
	texts   map[string]*server
	streams map[streamKey]*stream
	workers sync.WaitGroup // readers, senders and the watch
	closed  bool
}

// How many UDP sockets of a family are open, after how many questions one is replaced by another on a new port, and after how long, real time: so
// the port of the next question is one of many, which change, and cannot be predicted (RFC 5452 section 9.2).
const (
	numSockets = 32
	portUses   = 128
	portLife   = 30 * time.Second
)

// NewClient opens the sockets. Close gives them back.
func NewClient(door *reach.Door, opt Options) (*Client, error) {
	if opt.Timeout == 0 {
		opt.Timeout = 1200 * time.Millisecond
	}
	if opt.PerSecond == 0 {
		opt.PerSecond = 100
	}
	if opt.PerServer == 0 {
		opt.PerServer = 64
		if opt.PerSecond < 0 {
			opt.PerServer = 512
		}
	}
	c := &Client{door: door, opt: opt, now: time.Now(), servers: map[netip.AddrPort]*server{}, texts: map[string]*server{}, streams: map[streamKey]*stream{}, ended: make(chan struct{}), http: door.HTTPClient(2 * opt.Timeout)}
	if t, ok := c.http.Transport.(*http.Transport); ok && opt.Roots != nil {
		t.TLSClientConfig = &tls.Config{RootCAs: opt.Roots}
	}
	if _, err := rand.Read(c.secret[:]); err != nil {
		return nil, err
	}
	c.four.open = func() (*socket, error) { return c.listen(&c.four, door.ListenPackets4) }
	c.six.open = func() (*socket, error) { return c.listen(&c.six, door.ListenPackets6) }
	for range numSockets {
		four, err := c.four.open()
		if err != nil {
			c.Close()
			return nil, fmt.Errorf("opening a socket for DNS: %w", err)
		}
		c.four.sockets = append(c.four.sockets, four)
		if six, err := c.six.open(); err == nil {
			c.six.sockets = append(c.six.sockets, six)
		}
	}
	for _, f := range []*family{&c.four, &c.six} {
		f.called = make(chan struct{}, 1)
		c.workers.Go(func() { f.sendAll(c.ended) })
	}
	c.workers.Go(c.watch)
	return c, nil
}

// listen opens a socket and reads from it until it is closed.
func (c *Client) listen(f *family, open func() (*reach.Packets, error)) (*socket, error) {
	packets, err := open()
	if err != nil {
		return nil, err
	}
	_ = packets.SetReadBuffer(4 << 20)
	s := &socket{family: f, packets: packets, waiting: map[uint16]*waiter{}}
	c.workers.Go(s.read)
	return s, nil
}

// Close closes the sockets and connections and waits for their readers.
func (c *Client) Close() {
	c.mu.Lock()
	c.closed = true
	for _, s := range c.streams {
		s.end(errClosed)
	}
	c.mu.Unlock()
	close(c.ended)
	for _, f := range []*family{&c.four, &c.six} {
		f.mu.Lock()
		f.closed = true // no socket is opened from here on
		for _, s := range append(f.old, f.sockets...) {
			_ = s.packets.Close()
		}
		f.mu.Unlock()
	}
	c.workers.Wait()
	c.http.CloseIdleConnections()
}

var errClosed = errors.New("the client was closed")

// Ask puts q to a server: over UDP with EDNS and cookies, without EDNS where that is not understood (RFC 6891 section 7),
// over TCP where the answer was truncated, came in other letters, or does not come over UDP. Each try has its time-out, and there are few.
func (c *Client) Ask(ctx context.Context, at netip.AddrPort, q Question) (Reply, error) {
	var a asking
	if err := c.begin(ctx, &a, c.server(at), q); err != nil {
		return Reply{}, err
	}
	return a.end(ctx)
}

// begin puts a question on its way; a's end has to be called then. Whoever has begun questions holds nobody up who has not: a
// question's place at the server is free again once an answer came or the time for it is over, whether anybody waits for it or not.
func (c *Client) begin(ctx context.Context, a *asking, s *server, q Question) error {
	a.c, a.s, a.q, a.edns, a.refusedEDNS = c, s, q, a.manner == properly, a.manner == withoutEDNS
	if a.sure = isSure(ctx); a.sure || a.manner == streamsOnly {
		return nil
	}
	if err := s.enter(ctx); err != nil {
		return err
	}
	a.first, a.last = c.send(s, q, a.edns, 0)
	return nil
}

// abandon returns the question up.
func (a *asking) abandon() {
	if a.first != nil {
		a.first.forget()
	}
}

// end waits for the answer, and asks again where that is called for.
func (a *asking) end(ctx context.Context) (Reply, error) {
	if a.sure || a.manner == streamsOnly {
		r, err := a.overTCP(ctx)
		r.NoUDP = !a.sure
		return r, err
	}
	if a.first == nil {
		return Reply{}, a.last
	}
	r, over, err := a.overUDP(ctx, 0)
	switch {
	case over:
		return a.instead(ctx)
	case err == nil:
		return r, nil
	case ctx.Err() != nil || !errors.Is(err, ErrNoAnswer):
		return Reply{}, err
	}
	a.last = err
	return a.everyWay(ctx)
}

// way is one of the ways in which a server that has not answered is asked at the same time.
type way struct {
	r    Reply
	err  error
	edns bool // over UDP and with EDNS, as servers should be asked
	udp  bool
}

// everyWay asks a server that has not answered again, and waits longer, for it may be slow; soon after, it asks without EDNS, for some
// drop what they do not understand, and over TCP. The proper way counts where it is answered; a detour only where the proper one is
// not answered in a multiple of the time that the detour took.
func (a *asking) everyWay(ctx context.Context) (Reply, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	heard := make(chan way, 3)
	ask := func(wait time.Duration, kind way, how func(b *asking) (Reply, error)) {
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			kind.err = ctx.Err()
			heard <- kind
			return
		}
		kind.r, kind.err = how(&asking{c: a.c, s: a.s, q: a.q, tries: a.tries})
		heard <- kind
	}
	datagram := func(edns bool) func(b *asking) (Reply, error) {
		return func(b *asking) (Reply, error) {
			b.edns = edns
			r, over, err := b.overUDP(ctx, 1)
			if err == nil && over {
				r, err = b.instead(ctx)
			}
			if err == nil && !edns && !b.refusedEDNS {
				r = b.confirm(ctx, r)
			}
			return r, err
		}
	}
	proper := a.manner != withoutEDNS
	go ask(0, way{edns: proper, udp: true}, datagram(proper))
	go ask(a.c.opt.Timeout*5/12, way{udp: true}, datagram(false))
	go ask(a.c.opt.Timeout*5/12, way{}, func(*asking) (Reply, error) { return a.c.AskTCP(ctx, a.s.at, a.q) })
	var best *way
	var soon <-chan time.Time
	for left := 3; left > 0; {
		select {
		case w := <-heard:
			left--
			switch {
			case w.err == nil && w.edns:
				return w.r, nil
			case w.err == nil && (best == nil || w.udp):
				best = &w
				soon = time.After(max(a.c.opt.Timeout/4, 4*w.r.Took))
			case w.err != nil && w.edns:
				a.last = w.err
			}
		case <-soon:
			left = 0
		}
	}
	switch {
	case best != nil:
		best.r.NoUDP = !best.udp
		return best.r, nil
	case ctx.Err() != nil:
		return Reply{}, ctx.Err()
	}
	return Reply{}, a.last
}

// manner is how a server is asked of which something was learned.
type manner uint8

const (
	properly    manner = iota // over UDP, with EDNS
	withoutEDNS               // it does not answer what has EDNS
	streamsOnly               // nothing comes over UDP
)

// mannerOf returns what an answer teaches about its server.
func mannerOf(r Reply) manner {
	switch {
	case r.NoUDP:
		return streamsOnly
	case r.NoEDNS:
		return withoutEDNS
	}
	return properly
}

// asking is one question on its way to an answer.
type asking struct {
	c           *Client
	s           *server
	q           Question
	edns        bool
	refusedEDNS bool
	cookieTried bool
	tries       int
	manner      manner
	first       *waiter // that is open already
	last        error
	truncated   bool
	bare        bool // there was an error without the question
	sure        bool // it is asked over TCP only
}

type sureKey struct{}

// Surely returns a context in which nameservers are asked over TCP only, whose answers nobody makes up who does not see the questions.
func Surely(ctx context.Context) context.Context { return context.WithValue(ctx, sureKey{}, true) }

func isSure(ctx context.Context) bool {
	is, _ := ctx.Value(sureKey{}).(bool)
	return is
}

// overUDP makes a try; over tells that TCP has to be taken.
func (a *asking) overUDP(ctx context.Context, try int) (r Reply, over bool, err error) {
	for {
		a.tries++
		w := a.first
		if a.first = nil; w == nil {
			if err = a.s.enter(ctx); err != nil {
				return r, false, err
			}
			if w, err = a.c.send(a.s, a.q, a.edns, try); err != nil {
				return r, false, err
			}
		}
		heard, err := w.wait(ctx)
		if err != nil {
			return r, false, err
		}
		took, m := heard.took, heard.m
		a.s.heard(took)
		switch {
		case heard.otherLetters, heard.noCookie:
			return r, true, nil
		case heard.bare: // only the id had to be guessed for it
			a.bare = true
			return r, true, nil
		case m.Truncated:
			a.truncated = true
			return r, true, nil
		case m.Rcode == dns.RcodeBadCookie && !a.cookieTried:
			a.cookieTried = true
			continue
		case m.Rcode == dns.RcodeBadCookie:
			return r, true, nil
		case a.edns && refusesEDNS(m.Rcode):
			a.edns, a.refusedEDNS = false, true
			continue
		}
		return Reply{Msg: m, Over: OverUDP, Took: took, Tries: a.tries, NoEDNS: a.refusedEDNS}, false, nil
	}
}

// instead asks over TCP what was not answered so over UDP that it counts. After an error without the question a server that has no TCP, or no EDNS there
// either, is asked without EDNS: it may be from before both.
func (a *asking) instead(ctx context.Context) (Reply, error) {
	r, err := a.overTCP(ctx)
	if !a.bare || ctx.Err() != nil || err == nil && !refusesEDNS(r.Rcode) {
		return r, err
	}
	a.edns, a.refusedEDNS = false, true
	plain, over, lost := a.overUDP(ctx, 0)
	switch {
	case lost != nil:
		return Reply{}, lost
	case over && err != nil:
		return Reply{}, errors.New("it answers with nothing but errors that do not say what they are about")
	case over:
		return r, nil
	}
	return plain, nil
}

// refusesEDNS reports whether a response code says that EDNS is not understood (RFC 6891 section 7).
func refusesEDNS(rcode int) bool {
	return rcode == dns.RcodeFormatError || rcode == dns.RcodeNotImplemented || rcode == dns.RcodeBadVers
}

func (a *asking) overTCP(ctx context.Context) (Reply, error) {
	if err := a.s.enter(ctx); err != nil {
		return Reply{}, err
	}
	defer a.s.leave()
	r, err := a.c.AskTCP(ctx, a.s.at, a.q)
	if err != nil && a.truncated {
		return Reply{}, fmt.Errorf("its answer over UDP was cut off, and over TCP: %w", err)
	}
	r.Truncated, r.Tries = a.truncated, a.tries+1
	return r, err
}

// confirm reports whether a server that answered only when it was asked without EDNS drops what has EDNS, or was slow.
func (a *asking) confirm(ctx context.Context, plain Reply) Reply {
	a.edns = true
	r, over, err := a.overUDP(ctx, 0)
	if err == nil && !over {
		return r
	}
	plain.NoEDNS = err != nil || a.bare
	return plain
}

// Endpoint is where a resolver is asked.
type Endpoint struct {
	Address   netip.AddrPort
	Transport Transport
	TLSName   string // whom the certificate must be for; empty: the address
	URL       string // for DNS over HTTPS
}

// AskVia puts q to a resolver by its transport.
func (c *Client) AskVia(ctx context.Context, e Endpoint, q Question) (Reply, error) {
	switch e.Transport {
	case OverTCP:
		return c.AskTCP(ctx, e.Address, q)
	case OverTLS:
		return c.askStream(ctx, streamKey{at: e.Address, tls: true, name: e.TLSName}, q)
	case OverHTTPS:
		return c.askHTTPS(ctx, e.URL, q)
	}
	return c.Ask(ctx, e.Address, q)
}
