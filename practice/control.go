package practice

import (
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/miekg/dns"
)

// control is how whoever runs the world looks at it and bends it. It is not part of the internet that is practised on,
// apart from the clock, which everybody may read.
func (w *World) control() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /clock", func(rw http.ResponseWriter, _ *http.Request) { answer(rw, http.StatusOK, w.clock.state()) })
	mux.HandleFunc("POST /clock", func(rw http.ResponseWriter, r *http.Request) {
		var body struct {
			Rate   float64   `json:"rate"`
			SkipTo time.Time `json:"skip_to"`
		}
		if !read(rw, r, &body) {
			return
		}
		switch {
		case !body.SkipTo.IsZero():
			w.clock.skip(body.SkipTo)
		case body.Rate < 1 || body.Rate > 60:
			refuse(rw, http.StatusUnprocessableEntity, "bad_rate", "the rate is 1 to 60")
			return
		default:
			w.clock.setRate(body.Rate)
		}
		w.mu.Lock()
		w.save()
		w.mu.Unlock()
		answer(rw, http.StatusOK, w.clock.state())
	})
	mux.HandleFunc("POST /faults", func(rw http.ResponseWriter, r *http.Request) {
		var body fault
		if read(rw, r, &body) {
			w.faults.put(body)
			rw.WriteHeader(http.StatusNoContent)
		}
	})
	mux.HandleFunc("GET /busiest/{site}", func(rw http.ResponseWriter, r *http.Request) {
		answer(rw, http.StatusOK, map[string]int{"most": w.faults.busiest(r.PathValue("site"))})
	})
	mux.HandleFunc("POST /bulk", w.bulk)
	w.webControl(mux)
	w.routerControl(mux)
	mux.HandleFunc("GET /roots", func(rw http.ResponseWriter, _ *http.Request) { fmt.Fprint(rw, w.RootHints()) })
	mux.HandleFunc("GET /anchor", func(rw http.ResponseWriter, _ *http.Request) { fmt.Fprint(rw, w.Anchor()) })
	mux.HandleFunc("POST /signing", func(rw http.ResponseWriter, r *http.Request) {
		var body struct {
			Zone, At             string
			Roll, Forget, Broken bool
		}
		if !read(rw, r, &body) {
			return
		}
		ds, err := w.Sign(body.Zone, body.At, body.Roll, body.Forget, body.Broken)
		if err != nil {
			refuse(rw, http.StatusNotFound, "no_such_zone", err.Error())
			return
		}
		answer(rw, http.StatusOK, map[string][]string{"ds": ds})
	})
	mux.HandleFunc("POST /domains", w.registerDomain)
	mux.HandleFunc("POST /publication", func(rw http.ResponseWriter, r *http.Request) {
		var body struct{ Seconds int }
		if read(rw, r, &body) {
			w.mu.Lock()
			w.state.PublishLag = time.Duration(body.Seconds) * time.Second
			w.save()
			w.mu.Unlock()
			rw.WriteHeader(http.StatusNoContent)
		}
	})
	mux.HandleFunc("POST /zone-ttl", func(rw http.ResponseWriter, r *http.Request) {
		var body struct {
			Provider, Zone string
			TTL            uint32
		}
		if !read(rw, r, &body) {
			return
		}
		if err := w.SetNSTTL(body.Provider, body.Zone, body.TTL); err != nil {
			refuse(rw, http.StatusNotFound, "no_such_zone", err.Error())
			return
		}
		rw.WriteHeader(http.StatusNoContent)
	})
	mux.HandleFunc("POST /delegation-ttl", func(rw http.ResponseWriter, r *http.Request) {
		var body struct {
			Domain string
			TTL    uint32
		}
		if !read(rw, r, &body) {
			return
		}
		w.mu.Lock()
		defer w.mu.Unlock()
		d := w.state.Domains[dns.CanonicalName(body.Domain)]
		if d == nil {
			refuse(rw, http.StatusNotFound, "no_such_domain", "no such domain")
			return
		}
		d.TTL = body.TTL
		w.changed()
		rw.WriteHeader(http.StatusNoContent)
	})
	mux.HandleFunc("GET /nameservers/{provider}/{zone}", func(rw http.ResponseWriter, r *http.Request) {
		w.mu.RLock()
		defer w.mu.RUnlock()
		z := w.hosted(r.PathValue("provider"), r.PathValue("zone"))
		if z == nil {
			refuse(rw, http.StatusNotFound, "no_such_zone", "no such zone")
			return
		}
		answer(rw, http.StatusOK, w.state.Providers[r.PathValue("provider")].nameservers(z))
	})
	mux.HandleFunc("GET /journal/{provider}/{zone}", func(rw http.ResponseWriter, r *http.Request) {
		w.mu.RLock()
		defer w.mu.RUnlock()
		if r.PathValue("provider") == "gannet" {
			if d := w.state.Domains[dns.CanonicalName(r.PathValue("zone"))]; d != nil {
				answer(rw, http.StatusOK, append([]string{}, d.Journal...))
				return
			}
		}
		z := w.hosted(r.PathValue("provider"), r.PathValue("zone"))
		if z == nil {
			refuse(rw, http.StatusNotFound, "no_such_zone", "no such zone")
			return
		}
		answer(rw, http.StatusOK, z.Journal)
	})
	return mux
}

// bulk makes many zones with records at a provider in one go, as if they had always been there.
func (w *World) bulk(rw http.ResponseWriter, r *http.Request) {
	var body struct {
		Provider string
		Zones    map[string][]string // master-file lines by zone
	}
	if !read(rw, r, &body) {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	p := w.state.Providers[body.Provider]
	if p == nil {
		refuse(rw, http.StatusNotFound, "no_such_provider", "no such provider")
		return
	}
	ids := map[string]any{}
	for _, name := range sortedKeys(body.Zones) {
		z := p.create(dns.CanonicalName(name))
		for _, line := range body.Zones[name] {
			rr, err := dns.NewRR(line)
			if err != nil || rr == nil {
				refuse(rw, http.StatusUnprocessableEntity, "bad_record", line)
				return
			}
			z.Records = append(z.Records, normalRecord(rr))
		}
		slices.Sort(z.Records)
		ids[z.Name] = map[string]any{"id": z.ID, "nameservers": p.nameservers(z)}
	}
	w.changed()
	answer(rw, http.StatusOK, ids)
}

// registerDomain makes a domain at the registrar, as if somebody had bought it.
func (w *World) registerDomain(rw http.ResponseWriter, r *http.Request) {
	var body struct {
		Domain    string
		Hosts     []string
		TTL       uint32
		Registrar string // "skua"; empty for Gannet
		Days      int    // until the registration ends; a year where there are none
	}
	if !read(rw, r, &body) {
		return
	}
	if err := w.Register(body.Domain, body.Hosts, body.TTL); err != nil {
		refuse(rw, http.StatusUnprocessableEntity, "bad_domain", err.Error())
		return
	}
	w.mu.Lock()
	d := w.state.Domains[dns.CanonicalName(body.Domain)]
	if d.Registrar = body.Registrar; body.Days > 0 {
		d.Expires = w.clock.now().AddDate(0, 0, body.Days).Truncate(time.Hour)
	}
	w.changed()
	w.mu.Unlock()
	rw.WriteHeader(http.StatusNoContent)
}

// Register makes a domain at the registrar, delegated to hosts at once; ttl 0 means the registry's usual one.
func (w *World) Register(name string, hosts []string, ttl uint32) error {
	name = dns.CanonicalName(name)
	labels := dns.SplitDomainName(name)
	if len(labels) != 2 || labels[1] != "example" && labels[1] != "test" {
		return fmt.Errorf("%s: domains are sold directly below example and test", name)
	}
	var list []string
	if len(hosts) > 0 { // none: registered, and not delegated yet
		var err error
		if list, err = hostList(hosts); err != nil {
			return err
		}
	}
	if ttl == 0 {
		ttl = defaultDelegationTTL
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.state.Domains[name] = &domain{Stored: list, InForce: list, TTL: ttl, Expires: w.clock.now().AddDate(1, 0, 0).Truncate(time.Hour)}
	w.changed()
	return nil
}

// SetDS has the parent publish these DS records for a domain, in master-file form; none takes them away.
func (w *World) SetDS(name string, ds ...string) error {
	for _, text := range ds {
		if rr, err := dns.NewRR("x. IN DS " + text); err != nil || rr == nil {
			return fmt.Errorf("%q is no DS record", text)
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	d := w.state.Domains[dns.CanonicalName(name)]
	if d == nil {
		return fmt.Errorf("%s is not registered", name)
	}
	d.DS = ds
	w.changed()
	return nil
}

// SetNSTTL sets the TTL of the apex NS set that a provider's nameservers answer for a zone.
func (w *World) SetNSTTL(provider, zone string, ttl uint32) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	z := w.hosted(provider, zone)
	if z == nil {
		return fmt.Errorf("%s has no zone %s", provider, zone)
	}
	z.NSTTL = ttl
	w.changed()
	return nil
}

func (w *World) hosted(provider, zone string) *hostedZone {
	if p := w.state.Providers[provider]; p != nil {
		return p.Zones[dns.CanonicalName(zone)]
	}
	return nil
}

// RootHints returns the world's root nameservers as a zone file.
func (w *World) RootHints() string {
	return fmt.Sprintf(". 3600000 NS north.lights.test.\n. 3600000 NS south.lights.test.\n"+
		"north.lights.test. 3600000 A %s\nsouth.lights.test. 3600000 A %s\n", w.IP(rootNorth), w.IP(rootSouth))
}
