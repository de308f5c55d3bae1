package practice

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// operation is a change that Skua took and does later.
type operation struct {
	ID    string    `json:"id"`
	What  string    `json:"what"` // "nameservers" or "keys"
	State string    `json:"state"`
	Why   string    `json:"why,omitempty"` // it failed
	Due   time.Time `json:"due"`           // world time
	Hosts []string  `json:"hosts,omitempty"`
	Keys  []string  `json:"keys,omitempty"`
}

// skuaLag is how long Skua takes for a change, world time.
const skuaLag = 90 * time.Second

type skuaDomain struct {
	Name       string      `json:"name"`
	Servers    []string    `json:"nameservers"`
	Keys       []string    `json:"dnskeys"`
	Ends       time.Time   `json:"paid_until"`
	Flags      []string    `json:"flags"`
	Operations []operation `json:"open_operations"`
}

// skua is the second registrar's interface: at most four nameservers, keys from which it computes the DS records, and changes that it takes now and
// does later.
func (w *World) skua() http.Handler {
	mux := http.NewServeMux()
	show := func(name string) skuaDomain {
		d := w.state.Domains[name]
		out := skuaDomain{strings.TrimSuffix(name, "."), d.InForce, append([]string{}, d.Keys...), d.Expires, append([]string{}, d.States...), []operation{}}
		for _, o := range d.Operations {
			if o.State == "open" {
				out.Operations = append(out.Operations, o)
			}
		}
		return out
	}
	with := func(next func(http.ResponseWriter, *http.Request, string, *domain)) http.HandlerFunc {
		return func(rw http.ResponseWriter, r *http.Request) {
			name := dns.CanonicalName(r.PathValue("name"))
			d := w.state.Domains[name]
			if d == nil || d.Registrar != "skua" {
				refuse(rw, http.StatusNotFound, "not_ours", name+" is not registered here")
				return
			}
			next(rw, r, name, d)
		}
	}
	mux.HandleFunc("GET /names", func(rw http.ResponseWriter, _ *http.Request) {
		list := []skuaDomain{}
		for _, name := range sortedKeys(w.state.Domains) {
			if w.state.Domains[name].Registrar == "skua" {
				list = append(list, show(name))
			}
		}
		answer(rw, http.StatusOK, map[string]any{"names": list})
	})
	mux.HandleFunc("GET /names/{name}", with(func(rw http.ResponseWriter, _ *http.Request, name string, _ *domain) {
		answer(rw, http.StatusOK, show(name))
	}))
	mux.HandleFunc("PUT /names/{name}/{what}", with(func(rw http.ResponseWriter, r *http.Request, _ string, d *domain) {
		var body struct{ Nameservers, DNSKeys []string }
		if !read(rw, r, &body) {
			return
		}
		o := operation{ID: fmt.Sprintf("op-%d", len(d.Operations)+1), What: r.PathValue("what"), State: "open", Due: w.clock.now().Add(skuaLag)}
		var err error
		switch o.What {
		case "nameservers":
			if o.Hosts, err = hostList(body.Nameservers); err == nil && len(o.Hosts) > 4 {
				err = fmt.Errorf("a list has at most 4 nameservers here")
			}
		case "keys":
			o.Keys = body.DNSKeys
			_, err = digestsOf("x.", body.DNSKeys)
		default:
			err = fmt.Errorf("there is no %q", o.What)
		}
		if err != nil {
			refuse(rw, http.StatusUnprocessableEntity, "not_accepted", err.Error())
			return
		}
		d.Operations = append(d.Operations, o)
		d.Journal = append(d.Journal, o.What+" "+strings.Join(append(o.Hosts, o.Keys...), " "))
		w.changed()
		answer(rw, http.StatusAccepted, o)
	}))
	mux.HandleFunc("GET /names/{name}/operations/{id}", with(func(rw http.ResponseWriter, r *http.Request, _ string, d *domain) {
		i := slices.IndexFunc(d.Operations, func(o operation) bool { return o.ID == r.PathValue("id") })
		if i < 0 {
			refuse(rw, http.StatusNotFound, "no_operation", "there is no such operation")
			return
		}
		answer(rw, http.StatusOK, d.Operations[i])
	}))
	return w.upToDate(w.locked("skua", keyInHeader("Skua-Key", ""), mux))
}

// digestsOf computes the DS data of keys.
func digestsOf(name string, keys []string) (list []string, err error) {
	for _, key := range keys {
		rr, err := dns.NewRR(name + " IN DNSKEY " + key)
		if err != nil || rr == nil {
			return nil, fmt.Errorf("%q is no DNSKEY record", key)
		}
		ds := rr.(*dns.DNSKEY).ToDS(dns.SHA256)
		if ds == nil {
			return nil, fmt.Errorf("no digest can be made of %q", key)
		}
		list = append(list, strings.TrimPrefix(ds.String(), ds.Hdr.String()))
	}
	return list, nil
}

// settle does what is due of a domain by now, and returns when the next thing is; the caller holds the lock.
func (d *domain) settle(name string, now time.Time) (next time.Time) {
	sooner := func(at time.Time) {
		if next.IsZero() || at.Before(next) {
			next = at
		}
	}
	for i := range d.Operations {
		o := &d.Operations[i]
		if o.State != "open" {
			continue
		}
		if now.Before(o.Due) {
			sooner(o.Due)
			continue
		}
		o.State = "done"
		if i := slices.IndexFunc(o.Hosts, func(host string) bool { return dns.IsSubDomain(name, host) }); i >= 0 {
			o.State, o.Why = "failed", o.Hosts[i]+" needs an address at the registry, which is not taken here"
		} else if o.What == "nameservers" {
			d.Stored, d.InForce = o.Hosts, o.Hosts
		} else if ds, err := digestsOf(name, o.Keys); err == nil {
			d.Keys, d.DS = o.Keys, ds
		}
	}
	if !d.PublishAt.IsZero() {
		if now.Before(d.PublishAt) {
			sooner(d.PublishAt)
		} else {
			d.Published, d.PublishAt = nil, time.Time{}
		}
	}
	return next
}

// served is the list that the parent serves: the one in force, or the one before while the registry has not published it.
func (d *domain) served() []string {
	if slices.ContainsFunc(d.States, func(state string) bool { return state == "client hold" || state == "server hold" }) {
		return nil
	}
	if !d.PublishAt.IsZero() {
		return d.Published
	}
	return d.InForce
}

// arrive does what became due since the last time, before anything is answered by it.
func (w *World) arrive() {
	at := w.arrivesAt.Load()
	if at == 0 || w.clock.now().UnixNano() < at {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.changed()
}

// upToDate does what is due before each request.
func (w *World) upToDate(next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		w.arrive()
		next.ServeHTTP(rw, r)
	})
}
