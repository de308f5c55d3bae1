// Package practice is a small internet on loopback addresses: root and top-level nameservers, a registrar, DNS providers
// with nameservers of their own, and caching resolvers, under a clock that can run faster than the wall's.
//
// It speaks real protocols and keeps real state, so that whoever talks to it does as in the world outside. It shares no
// code with what it is used to judge: names, records and zones are the DNS library's here, and its caches are its own.
// Everything in it can be told to misbehave through its control address (control.go).
package practice

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"github.com/miekg/dns"
)

// Options say where a world stands. All its addresses are 127.Net.x.y.
type Options struct {
	Net       int           // second octet, 1 to 255
	DNSPort   int           // of every nameserver and resolver
	HTTPPort  int           // of every HTTP interface
	Rate      float64       // world seconds in a wall second
	Lag       time.Duration // how much Plover's reads are behind its writes, wall time
	Signed    bool          // the root and the registries are signed
	StateFile string        // where state is kept between runs; empty for nowhere
	Log       *slog.Logger
}

// World is a running practice world.
type World struct {
	opt       Options
	clock     *clock
	faults    *faults
	router    *router
	mu        sync.RWMutex // guards everything below, and the state of all sites
	state     state
	batches   map[string]*curlewBatch // by receipt; forgotten at a restart
	receipts  int
	ploverLag time.Duration
	ended     chan struct{}
	follows   bool                   // some zone is made of records of others
	zones     map[string][]*zoneData // by name, one for each provider that has it; built from state
	webHosts  []*webHost
	notary    *notary
	arrivesAt atomic.Int64 // world time at which something becomes due, in nanoseconds; 0 for never
	listens   []listener
	wait      sync.WaitGroup
}

// state is what a world remembers between runs.
type state struct {
	Clock     clockState                     `json:"clock"`
	Domains   map[string]*domain             `json:"domains"`
	Providers map[string]*providerState      `json:"providers"`
	Sites     map[string]map[string]*webSite `json:"sites,omitempty"` // by web host and name
	Notary    *notaryState                   `json:"notary,omitempty"`
	Signed    map[string]*signing            `json:"signed,omitempty"` // zones that are signed, by name

	PublishLag time.Duration `json:"publish_lag,omitempty"` // how long registries take to publish what Gannet activated, world time
}

// Addresses of the sites within a world: the last two octets.
const (
	rootNorth, rootSouth       = "0.1", "0.2"
	exampleEast, exampleWest   = "1.1", "1.2"
	testEast, testWest         = "2.1", "2.2"
	gannetAPI, skuaAPI         = "3.1", "3.2"
	rdapAPI                    = "3.9"
	heronAPI, ploverAPI        = "4.1", "5.1"
	curlewAPI                  = "6.1"
	heronServers, ploverServer = 4, 5
	curlewServers              = 6 // third octet; the fourth is 11 and on
	controlAddr                = "9.1"
	whimbrelAPI, lapwingAPI    = "10.1", "11.1"
	routerAddr                 = "12.1"
	whimbrelServers            = 10
	lapwingServers             = 11
)

type listener interface{ stop() }

// Start brings a world up; every site answers when it returns.
func Start(opt Options) (*World, error) {
	if opt.Rate == 0 {
		opt.Rate = 1
	}
	if opt.Rate < 1 || opt.Rate > 60 {
		return nil, fmt.Errorf("the practice world's clock runs at 1 to 60 times the wall's, not at %g", opt.Rate)
	}
	if opt.Log == nil {
		opt.Log = slog.New(slog.DiscardHandler)
	}
	w := &World{opt: opt, faults: newFaults(), router: newRouter(), zones: map[string][]*zoneData{}, batches: map[string]*curlewBatch{}, ended: make(chan struct{}), ploverLag: opt.Lag}
	if err := w.load(); err != nil {
		return nil, err
	}
	w.clock = newClock(w.state.Clock)
	w.rebuild()
	var err error
	for _, zone := range []string{".", "example.", "test."} {
		if opt.Signed && err == nil && w.state.Signed[zone] == nil {
			_, err = w.Sign(zone, "", false, false, false)
		}
	}
	if err != nil {
		return nil, err
	}
	if w.notary, err = newNotary(w); err != nil {
		return nil, err
	}
	w.webHosts = w.makeWebHosts()
	if err := w.listen(); err != nil {
		w.Close()
		return nil, err
	}
	return w, nil
}

// Close stops every site.
func (w *World) Close() {
	close(w.ended)
	for _, l := range w.listens {
		l.stop()
	}
	w.wait.Wait()
}

// IP returns the address of a site within this world, such as "4.1".
func (w *World) IP(site string) string { return fmt.Sprintf("127.%d.%s", w.opt.Net, site) }

// DNSAddress returns address and port of a nameserver or resolver.
func (w *World) DNSAddress(site string) string {
	return net.JoinHostPort(w.IP(site), fmt.Sprint(w.opt.DNSPort))
}

// sites are the addresses of the HTTP interfaces.
var sites = map[string]string{"heron": heronAPI, "plover": ploverAPI, "curlew": curlewAPI, "whimbrel": whimbrelAPI, "lapwing": lapwingAPI,
	"gannet": gannetAPI, "skua": skuaAPI, "rdap": rdapAPI, "control": controlAddr, "router": routerAddr}

// URL returns the base address of an HTTP site: a provider, a registrar, "rdap", "router" or "control".
func (w *World) URL(site string) string {
	return "http://" + net.JoinHostPort(w.IP(sites[site]), fmt.Sprint(w.opt.HTTPPort))
}

// Now is the world's time.
func (w *World) Now() time.Time { return w.clock.now() }

// load reads the state file, or makes the state of a new world.
func (w *World) load() error {
	w.state = state{Domains: map[string]*domain{}, Providers: map[string]*providerState{}}
	if w.opt.StateFile != "" {
		text, err := os.ReadFile(w.opt.StateFile)
		if err == nil {
			err = json.Unmarshal(text, &w.state)
		}
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("reading the practice world's state: %w", err)
		}
	}
	if w.state.Clock.Rate == 0 {
		now := time.Now()
		w.state.Clock = clockState{Wall: now, World: now, Rate: w.opt.Rate}
	}
	if w.state.Sites == nil {
		w.state.Sites = map[string]map[string]*webSite{}
	}
	for name, pool := range map[string]poolOptions{
		"heron":  {prefix: "quay-", size: 8, perZone: 4, octet: heronServers},
		"plover": {prefix: "reed-", size: 6, perZone: 2, octet: ploverServer},
		"curlew": {prefix: "sand-", size: 10, perZone: 4, octet: curlewServers},

		"whimbrel": {prefix: "moor-", size: 4, perZone: 2, octet: whimbrelServers},
		"lapwing":  {prefix: "field-", size: 4, perZone: 2, octet: lapwingServers},
	} {
		if w.state.Providers[name] == nil {
			w.state.Providers[name] = &providerState{Zones: map[string]*hostedZone{}}
		}
		w.state.Providers[name].name, w.state.Providers[name].pool = name, pool
	}
	return nil
}

// sleep waits, or returns early when the world ends.
func (w *World) sleep(d time.Duration) {
	select {
	case <-time.After(d):
	case <-w.ended:
	}
}

// save writes the state file; the caller holds the lock. A world without a file forgets.
func (w *World) save() {
	if w.opt.StateFile == "" {
		return
	}
	w.state.Clock = w.clock.state()
	text, err := json.Marshal(w.state)
	if err == nil {
		err = os.WriteFile(w.opt.StateFile+".new", text, 0o600)
	}
	if err == nil {
		err = os.Rename(w.opt.StateFile+".new", w.opt.StateFile)
	}
	if err != nil {
		w.opt.Log.Error("the practice world's state could not be kept", "error", err)
	}
}

func (w *World) listen() error {
	for _, site := range []string{rootNorth, rootSouth, exampleEast, exampleWest, testEast, testWest} {
		if err := w.serveDNS(site, w.authority(site)); err != nil {
			return err
		}
	}
	for _, p := range w.state.Providers {
		for i := range p.pool.size {
			site := fmt.Sprintf("%d.%d", p.pool.octet, 11+i)
			if err := w.serveDNS(site, w.authority(site)); err != nil {
				return err
			}
		}
	}
	for _, r := range w.resolvers() {
		if err := w.serveDNS(r.site, r); err != nil {
			return err
		}
	}
	interfaces := map[string]http.Handler{"gannet": w.gannet(), "skua": w.skua(), "rdap": w.rdap(), "control": w.control()}
	for name, handler := range map[string]http.Handler{"heron": w.heron(), "plover": w.plover(), "curlew": w.curlew(), "whimbrel": w.whimbrel(), "lapwing": w.lapwing()} {
		interfaces[name] = w.operator(w.state.Providers[name], handler)
	}
	for name, handler := range interfaces {
		if err := w.serveHTTP(sites[name], handler); err != nil {
			return err
		}
	}
	if err := w.serveRouter(); err != nil {
		return err
	}
	return w.listenWeb()
}

type dnsListener struct{ servers []*dns.Server }

func (l dnsListener) stop() {
	for _, s := range l.servers {
		_ = s.Shutdown()
	}
}

// serveDNS answers over UDP and TCP on one address.
func (w *World) serveDNS(site string, handler dns.Handler) error {
	address := w.DNSAddress(site)
	packet, err := net.ListenPacket("udp", address)
	if err != nil {
		return fmt.Errorf("the practice world needs %s: %w", address, err)
	}
	stream, err := net.Listen("tcp", address)
	if err != nil {
		packet.Close()
		return fmt.Errorf("the practice world needs %s: %w", address, err)
	}
	faulty := w.faults.dns(site, handler)
	l := dnsListener{[]*dns.Server{{PacketConn: packet, Handler: faulty}, {Listener: stream, Handler: faulty}}}
	for _, s := range l.servers {
		ready := make(chan struct{})
		s.NotifyStartedFunc = func() { close(ready) }
		w.wait.Go(func() { _ = s.ActivateAndServe() })
		<-ready
	}
	w.listens = append(w.listens, l)
	return nil
}

type httpListener struct{ server *http.Server }

func (l httpListener) stop() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if l.server.Shutdown(ctx) != nil {
		_ = l.server.Close()
	}
}

func (w *World) serveHTTP(site string, handler http.Handler) error {
	address := net.JoinHostPort(w.IP(site), fmt.Sprint(w.opt.HTTPPort))
	l, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("the practice world needs %s: %w", address, err)
	}
	server := &http.Server{Handler: w.faults.http(site, handler), ReadHeaderTimeout: 10 * time.Second}
	w.wait.Go(func() { _ = server.Serve(l) })
	w.listens = append(w.listens, httpListener{server})
	return nil
}
