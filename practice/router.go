package practice

import (
	"encoding/binary"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"time"
)

// routerState is a router at a home line, as the control interface sets it.
type routerState struct {
	Address    string   `json:"address"`    // of its line; empty while it is down
	Translated bool     `json:"translated"` // its provider translates it: the line has an address that nobody reaches
	Prefix     string   `json:"prefix"`     // that its provider delegates to it
	Withdrawn  []string `json:"withdrawn"`  // former ones, which machines still have for a while (RFC 9096)
	Speaks     string   `json:"speaks"`     // natpmp, pcp, both or nothing
	Announce   string   `json:"announce"`   // where it announces another address: host and port; empty for nowhere
	Mappings   int      `json:"mappings"`   // that are there
}

// router is a router with NAT-PMP and PCP.
type router struct {
	mu       sync.Mutex
	state    routerState
	began    time.Time // its epoch: its mappings are known since
	mappings map[string]time.Time
	conn     *net.UDPConn
}

func newRouter() *router {
	return &router{began: time.Now(), mappings: map[string]time.Time{}, state: routerState{Address: "198.51.100.20", Prefix: "2001:db8:20::/56", Speaks: "both", Withdrawn: []string{}}}
}

// RouterAddress is where the router of the home line is asked: address and port. A world has ports of its own; routers elsewhere listen at 5351 (RFC 6886 section 3.1).
func (w *World) RouterAddress() string { return w.DNSAddress(routerAddr) }

// line is the address that the router's line has; the zero Addr while it is down.
func (r *router) line() netip.Addr {
	a, err := netip.ParseAddr(r.state.Address)
	if err != nil {
		return netip.Addr{}
	}
	if r.state.Translated {
		last := a.As4()
		return netip.AddrFrom4([4]byte{100, 64, last[2], last[3]})
	}
	return a
}

// stop ends the router.
func (r *router) stop() { _ = r.conn.Close() }

// serveRouter answers those who ask the router.
func (w *World) serveRouter() error {
	conn, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.MustParseAddrPort(w.RouterAddress())))
	if err != nil {
		return fmt.Errorf("the practice world needs %s: %w", w.RouterAddress(), err)
	}
	w.router.conn = conn
	w.listens = append(w.listens, w.router)
	w.wait.Go(func() {
		buf := make([]byte, 1100)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			if out := w.router.answer(buf[:n], from); out != nil {
				_, _ = conn.WriteToUDPAddrPort(out, from)
			}
		}
	})
	return w.serveHTTP(routerAddr, http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) { // what another service sees of those behind the router
		w.router.mu.Lock()
		defer w.router.mu.Unlock()
		rw.Header().Set("Content-Type", "text/plain")
		if a := w.router.line(); a.IsValid() {
			fmt.Fprintln(rw, a)
		} else {
			rw.WriteHeader(http.StatusServiceUnavailable)
		}
	}))
}

// answer returns what the router answers; nil for nothing.
func (r *router) answer(q []byte, from netip.AddrPort) []byte {
	r.mu.Lock()
	defer r.mu.Unlock()
	natpmp, pcp := r.state.Speaks == "both" || r.state.Speaks == "natpmp", r.state.Speaks == "both" || r.state.Speaks == "pcp"
	switch {
	case len(q) < 2 || q[1]&0x80 != 0:
		return nil
	case q[0] == 0 && natpmp:
		return r.natpmp(q)
	case q[0] == 2 && pcp:
		return r.pcp(q, from)
	case natpmp: // another version: it says its own
		return []byte{0, q[1] | 0x80, 0, 1, 0, 0, 0, 0}
	case pcp:
		out := make([]byte, 24)
		out[0], out[1], out[3] = 2, q[1]|0x80, 1
		return out
	}
	return nil
}

func (r *router) epoch() uint32 { return uint32(time.Since(r.began) / time.Second) }

// natpmp answers the question for the address (RFC 6886 section 3.2).
func (r *router) natpmp(q []byte) []byte {
	out := make([]byte, 12)
	out[1] = q[1] | 0x80
	binary.BigEndian.PutUint32(out[4:], r.epoch())
	switch a := r.line(); {
	case q[1] != 0:
		out[3] = 5
		return out[:8]
	case !a.IsValid():
		out[3] = 3
	default:
		four := a.As4()
		copy(out[8:], four[:])
	}
	return out
}

// pcp answers a request for a mapping (RFC 6887 section 11).
func (r *router) pcp(q []byte, from netip.AddrPort) []byte {
	out := make([]byte, 24)
	out[0], out[1] = 2, q[1]|0x80
	binary.BigEndian.PutUint32(out[8:], r.epoch())
	if len(q) < 60 || len(q)%4 != 0 {
		out[3] = 3
		return out
	}
	out = append(out, q[24:60]...)
	lifetime := binary.BigEndian.Uint32(q[4:])
	a := r.line()
	switch client := netip.AddrFrom16([16]byte(q[8:24])).Unmap(); {
	case q[1] != 1:
		out[3] = 4
	case client != from.Addr().Unmap():
		out[3] = 12
	case !a.IsValid():
		out[3] = 7
	default:
		key := string(q[24:36]) + string(q[36:42])
		if lifetime == 0 {
			delete(r.mappings, key)
		} else {
			lifetime = min(lifetime, 7200)
			r.mappings[key] = time.Now().Add(time.Duration(lifetime) * time.Second)
		}
		binary.BigEndian.PutUint32(out[4:], lifetime)
		outside := netip.AddrFrom16(a.As16()).As16()
		copy(out[44:], outside[:])
	}
	return out
}

// change sets the router, and announces another address as routers do: several times, each later than the one before (RFC 6886 section 3.2.1).
func (w *World) changeRouter(s routerState) error {
	r := w.router
	for _, text := range []string{s.Address, s.Prefix} {
		if _, err := netip.ParseAddr(text); err != nil && text != "" {
			if _, err := netip.ParsePrefix(text); err != nil {
				return fmt.Errorf("%q is neither an address nor a prefix", text)
			}
		}
	}
	var to netip.AddrPort
	if s.Announce != "" {
		var err error
		if to, err = netip.ParseAddrPort(s.Announce); err != nil || !to.Addr().IsLoopback() {
			return fmt.Errorf("%q is no loopback address with a port", s.Announce)
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if old := r.state.Prefix; old != s.Prefix && old != "" {
		s.Withdrawn = append(r.state.Withdrawn, old)
	} else {
		s.Withdrawn = r.state.Withdrawn
	}
	before := r.line()
	r.state = s
	if r.line() == before {
		return nil
	}
	r.began, r.mappings = time.Now(), map[string]time.Time{}
	if to.IsValid() {
		w.wait.Go(func() { w.announce(to) })
	}
	return nil
}

func (w *World) announce(to netip.AddrPort) {
	for i, wait := 0, 250*time.Millisecond; i < 3; i, wait = i+1, 2*wait {
		w.router.mu.Lock()
		out := w.router.natpmp([]byte{0, 0})
		w.router.mu.Unlock()
		if _, err := w.router.conn.WriteToUDPAddrPort(out, to); err != nil {
			return
		}
		select {
		case <-w.ended:
			return
		case <-time.After(wait):
		}
	}
}

// routerControl shows the router, and changes it.
func (w *World) routerControl(mux *http.ServeMux) {
	show := func(rw http.ResponseWriter) {
		w.router.mu.Lock()
		defer w.router.mu.Unlock()
		s := w.router.state
		for _, until := range w.router.mappings {
			if time.Now().Before(until) {
				s.Mappings++
			}
		}
		answer(rw, http.StatusOK, s)
	}
	mux.HandleFunc("GET /router", func(rw http.ResponseWriter, _ *http.Request) { show(rw) })
	mux.HandleFunc("PUT /router", func(rw http.ResponseWriter, r *http.Request) {
		var body routerState
		if !read(rw, r, &body) {
			return
		}
		if err := w.changeRouter(body); err != nil {
			refuse(rw, http.StatusUnprocessableEntity, "bad_router", err.Error())
			return
		}
		show(rw)
	})
}
