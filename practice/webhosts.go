package practice

import (
	"crypto/rand"
	"crypto/tls"
	"encoding/hex"
	"fmt"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
)

// webHost serves sites over both networks and both schemes. The addresses that zones have for it are documentation
// addresses; routes says where it stands within the world.
type webHost struct {
	world *World
	name  string
	four  string // the addresses that zones have for it
	six   string
	site  string // last octets of where it answers http over IPv4
	safe  string // and https
	port  int    // on ::1 for http; https has the next one

	mu      sync.Mutex
	pending map[string]string // proofs that it shows over http, by token
}

// hosted site of a web host. Without a certificate of its own it shows the host's.
type webSite struct {
	Auto   bool   `json:"auto"` // the host asks for a certificate until it gets one
	Asks   string `json:"asks"` // the proof that it would show in the DNS
	Paper  []byte `json:"paper,omitempty"`
	Key    []byte `json:"key,omitempty"`
	Reason string `json:"reason,omitempty"` // why the notary refused last
}

// makeWebHosts returns the world's two hosts: Bittern is where the demo's site is at first, Avocet where it moves to.
func (w *World) makeWebHosts() []*webHost {
	return []*webHost{
		{world: w, name: "bittern", four: "192.0.2.40", six: "2001:db8:40::1", site: "7.1", safe: "7.101", port: w.opt.HTTPPort, pending: map[string]string{}},
		{world: w, name: "avocet", four: "192.0.2.41", six: "2001:db8:41::1", site: "7.2", safe: "7.102", port: w.opt.HTTPPort + 2, pending: map[string]string{}},
	}
}

// Route returns where an address of the world's zones is reached on this machine.
type Route struct {
	Address string `json:"address"`
	HTTP    string `json:"http"`
	HTTPS   string `json:"https"`
}

// Routes returns the ways to the web hosts.
func (w *World) Routes() (list []Route) {
	for _, h := range w.webHosts {
		list = append(list, w.routesTo(h)...)
	}
	return list
}

// routesTo returns the ways to one host, over IPv4 and over IPv6.
func (w *World) routesTo(h *webHost) []Route {
	port := fmt.Sprint(w.opt.HTTPPort)
	return []Route{{h.four, net.JoinHostPort(w.IP(h.site), port), net.JoinHostPort(w.IP(h.safe), port)},
		{h.six, fmt.Sprintf("[::1]:%d", h.port), fmt.Sprintf("[::1]:%d", h.port+1)}}
}

// route returns where an address is reached over http; empty for one that leads nowhere.
func (w *World) route(address string) string {
	for _, r := range w.Routes() {
		if r.Address == address {
			return r.HTTP
		}
	}
	return ""
}

// listenWeb opens the hosts' ports. A machine without IPv6 has hosts without it.
func (w *World) listenWeb() error {
	for _, h := range w.webHosts {
		for i, r := range w.routesTo(h) {
			for _, at := range []struct {
				address string
				secure  bool
			}{{r.HTTP, false}, {r.HTTPS, true}} {
				l, err := net.Listen("tcp", at.address)
				if err != nil && i == 1 {
					w.opt.Log.Warn("a web host does without IPv6", "host", h.name, "error", err)
					continue
				}
				if err != nil {
					return fmt.Errorf("the practice world needs %s: %w", at.address, err)
				}
				if at.secure {
					l = tls.NewListener(l, &tls.Config{GetCertificate: h.certificate, NextProtos: []string{"http/1.1"}})
				}
				server := &http.Server{Handler: w.faults.http(h.site, h.serve(at.secure)), ReadHeaderTimeout: 10 * time.Second, ErrorLog: quiet}
				w.wait.Go(func() { _ = server.Serve(l) })
				w.listens = append(w.listens, httpListener{server})
			}
		}
	}
	w.wait.Go(w.askForCertificates)
	return nil
}

// certificate returns the certificate of the site that is asked for, or else the host's own.
func (h *webHost) certificate(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	name := dns.CanonicalName(hello.ServerName)
	h.world.mu.RLock()
	site := h.world.state.Sites[h.name][name]
	h.world.mu.RUnlock()
	if site != nil && site.Paper != nil {
		c, err := tls.X509KeyPair(site.Paper, site.Key)
		return &c, err
	}
	return h.world.notary.own(h.name + ".hosts.test")
}

// serve answers for the host's sites: proofs, a way to https where there is a certificate, and a page.
func (h *webHost) serve(secure bool) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if token, ok := strings.CutPrefix(r.URL.Path, "/.well-known/acme-challenge/"); ok { // RFC 8555 section 8.3
			h.mu.Lock()
			proof, known := h.pending[token]
			h.mu.Unlock()
			if known {
				fmt.Fprint(rw, proof)
				return
			}
			http.NotFound(rw, r)
			return
		}
		host, _, err := net.SplitHostPort(r.Host)
		if err != nil {
			host = r.Host
		}
		h.world.mu.RLock()
		site := h.world.state.Sites[h.name][dns.CanonicalName(host)]
		apex := strings.HasPrefix(host, "www.") && h.world.state.Sites[h.name][dns.CanonicalName(strings.TrimPrefix(host, "www."))] != nil
		h.world.mu.RUnlock()
		scheme := "http"
		if secure {
			scheme = "https"
		}
		switch {
		case site == nil:
			http.Error(rw, "Nobody of this name lives at "+h.name+".", http.StatusNotFound)
		case apex && (secure || site.Paper == nil): // www leads to the site without
			http.Redirect(rw, r, scheme+"://"+strings.TrimPrefix(host, "www.")+r.URL.RequestURI(), http.StatusMovedPermanently)
		case !secure && site.Paper != nil:
			http.Redirect(rw, r, "https://"+host+r.URL.RequestURI(), http.StatusMovedPermanently)
		default:
			fmt.Fprintf(rw, "%s, served by %s.\n", host, h.name)
		}
	})
}

// askForCertificates has hosts ask for the certificates that their sites still need, every half minute of the world's.
func (w *World) askForCertificates() {
	for {
		w.sleep(max(time.Duration(float64(30*time.Second)/w.clock.state().Rate), 500*time.Millisecond))
		select {
		case <-w.ended:
			return
		default:
		}
		for _, h := range w.webHosts {
			var names []string
			w.mu.RLock()
			for name, s := range w.state.Sites[h.name] {
				if s.Auto && s.Paper == nil {
					names = append(names, name)
				}
			}
			w.mu.RUnlock()
			for _, name := range names {
				_ = h.order(name, "http")
			}
		}
	}
}

// put has a host serve a site.
func (h *webHost) put(name string, auto bool) {
	h.world.mu.Lock()
	defer h.world.mu.Unlock()
	if h.world.state.Sites[h.name] == nil {
		h.world.state.Sites[h.name] = map[string]*webSite{}
	}
	name = dns.CanonicalName(name)
	if s := h.world.state.Sites[h.name][name]; s != nil {
		s.Auto = auto
	} else {
		h.world.state.Sites[h.name][name] = &webSite{Auto: auto, Asks: word()}
	}
	h.world.save()
}

func word() string {
	var b [16]byte
	_, _ = rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// order asks the notary for a certificate, over http or over dns, and keeps it.
func (h *webHost) order(name, over string) error {
	h.world.mu.RLock()
	site := h.world.state.Sites[h.name][name]
	asks := ""
	if site != nil {
		asks = site.Asks
	}
	h.world.mu.RUnlock()
	if site == nil {
		return fmt.Errorf("%s serves no %s", h.name, name)
	}
	token, proof := word(), word()
	h.mu.Lock()
	h.pending[token] = proof
	h.mu.Unlock()
	defer func() {
		h.mu.Lock()
		delete(h.pending, token)
		h.mu.Unlock()
	}()
	var err error
	if over == "dns" {
		err = h.world.notary.convincedOverDNS(name, asks)
	} else {
		err = h.world.notary.convincedOverHTTP(name, token, proof)
	}
	var paper, key []byte
	if err == nil {
		paper, key, err = h.world.notary.issue(name)
	}
	h.world.mu.Lock()
	defer h.world.mu.Unlock()
	if err != nil {
		site.Reason = err.Error()
		return err
	}
	site.Paper, site.Key, site.Reason = paper, key, ""
	h.world.save()
	return nil
}

// webControl is how whoever runs the world puts sites at hosts and has them ask for certificates.
func (w *World) webControl(mux *http.ServeMux) {
	mux.HandleFunc("GET /routes", func(rw http.ResponseWriter, _ *http.Request) { answer(rw, http.StatusOK, w.Routes()) })
	mux.HandleFunc("GET /notary", func(rw http.ResponseWriter, _ *http.Request) { _, _ = rw.Write(w.notary.paper) })
	named := func(rw http.ResponseWriter, name string) *webHost {
		for _, h := range w.webHosts {
			if h.name == name {
				return h
			}
		}
		refuse(rw, http.StatusNotFound, "no_such_host", "no such web host")
		return nil
	}
	mux.HandleFunc("POST /sites", func(rw http.ResponseWriter, r *http.Request) {
		var body struct {
			Host, Name string
			Auto       bool
		}
		if !read(rw, r, &body) {
			return
		}
		if h := named(rw, body.Host); h != nil {
			h.put(body.Name, body.Auto)
			rw.WriteHeader(http.StatusNoContent)
		}
	})
	mux.HandleFunc("POST /certificates", func(rw http.ResponseWriter, r *http.Request) {
		var body struct{ Host, Name, Over string }
		if !read(rw, r, &body) {
			return
		}
		h := named(rw, body.Host)
		if h == nil {
			return
		}
		if err := h.order(dns.CanonicalName(body.Name), body.Over); err != nil {
			refuse(rw, http.StatusForbidden, "not_issued", err.Error())
			return
		}
		rw.WriteHeader(http.StatusNoContent)
	})
	mux.HandleFunc("GET /sites", func(rw http.ResponseWriter, _ *http.Request) {
		type view struct {
			Host, Name, Asks, Reason string
			Certificate              bool
		}
		list := []view{}
		w.mu.RLock()
		defer w.mu.RUnlock()
		for _, host := range sortedKeys(w.state.Sites) {
			for _, name := range sortedKeys(w.state.Sites[host]) {
				s := w.state.Sites[host][name]
				list = append(list, view{host, name, s.Asks, s.Reason, s.Paper != nil})
			}
		}
		answer(rw, http.StatusOK, list)
	})
}
