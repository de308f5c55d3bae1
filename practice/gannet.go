package practice

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// domain is a registration. At Gannet a list that is stored is not in force until it is activated.
type domain struct {
	Registrar  string              `json:"registrar,omitempty"` // "skua"; empty for Gannet
	Stored     []string            `json:"stored"`
	InForce    []string            `json:"in_force"`
	TTL        uint32              `json:"ttl"` // of the delegation at the parent
	Expires    time.Time           `json:"expires"`
	DS         []string            `json:"ds,omitempty"`         // at the parent, in master-file form
	States     []string            `json:"states,omitempty"`     // holds and locks; a hold takes the delegation away
	Glue       map[string][]string `json:"glue,omitempty"`       // addresses of hosts within the domain
	Keys       []string            `json:"keys,omitempty"`       // at Skua, DNSKEY data
	Operations []operation         `json:"operations,omitempty"` // at Skua
	// Published is what the parent serves until PublishAt, world time, by when the registry publishes the list in force.
	Published []string  `json:"published,omitempty"`
	PublishAt time.Time `json:"publish_at,omitzero"`
	// Journal notes every change that was asked for, so that doing something twice can be seen.
	Journal []string `json:"journal,omitempty"`
}

const defaultDelegationTTL = 1200

type gannetDomain struct {
	Domain  string       `json:"domain"`
	Stored  []string     `json:"stored_hosts"`
	InForce []string     `json:"hosts_in_force"`
	Expires time.Time    `json:"registered_until"`
	States  []string     `json:"states"`
	DS      []string     `json:"ds"`
	Glue    []gannetHost `json:"glue"`
}

type gannetHost struct {
	Host      string   `json:"host"`
	Addresses []string `json:"addresses"`
}

func showDomain(name string, d *domain) gannetDomain {
	shown := gannetDomain{strings.TrimSuffix(name, "."), d.Stored, d.InForce, d.Expires, d.States, append([]string{}, d.DS...), []gannetHost{}}
	for _, host := range sortedKeys(d.Glue) {
		shown.Glue = append(shown.Glue, gannetHost{host, d.Glue[host]})
	}
	return shown
}

// gannet is the registrar's interface: domains, their stored list, and the list in force.
func (w *World) gannet() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /registrations", func(rw http.ResponseWriter, r *http.Request) {
		page := []gannetDomain{}
		after, next := r.URL.Query().Get("after"), ""
		for _, name := range sortedKeys(w.state.Domains) {
			if name <= after || w.state.Domains[name].Registrar != "" {
				continue
			}
			if len(page) == 50 {
				next = page[49].Domain + "."
				break
			}
			page = append(page, showDomain(name, w.state.Domains[name]))
		}
		answer(rw, http.StatusOK, map[string]any{"registrations": page, "next_after": next})
	})
	mux.HandleFunc("GET /registrations/{domain}", w.withDomain(func(http.ResponseWriter, *http.Request, *domain) bool { return true }))
	mux.HandleFunc("PUT /registrations/{domain}/hosts", w.withDomain(func(rw http.ResponseWriter, r *http.Request, d *domain) bool {
		var body struct {
			Hosts []string `json:"hosts"`
		}
		if !read(rw, r, &body) {
			return false
		}
		hosts, err := hostList(body.Hosts)
		if err != nil {
			refuse(rw, http.StatusUnprocessableEntity, "bad_hosts", err.Error())
			return false
		}
		d.Stored = hosts
		d.Journal = append(d.Journal, "save "+strings.Join(hosts, " "))
		return true
	}))
	mux.HandleFunc("POST /registrations/{domain}/hosts/activate", w.withDomain(func(_ http.ResponseWriter, _ *http.Request, d *domain) bool {
		if lag := w.state.PublishLag; lag > 0 && !slices.Equal(d.InForce, d.Stored) {
			if d.PublishAt.IsZero() {
				d.Published = d.InForce
			}
			d.PublishAt = w.clock.now().Add(lag)
		}
		d.InForce = d.Stored
		d.Journal = append(d.Journal, "activate "+strings.Join(d.Stored, " "))
		return true
	}))
	mux.HandleFunc("PUT /registrations/{domain}/ds", w.withDomain(func(rw http.ResponseWriter, r *http.Request, d *domain) bool {
		var body struct {
			DS []string `json:"ds"`
		}
		if !read(rw, r, &body) {
			return false
		}
		for _, ds := range body.DS {
			if rr, err := dns.NewRR("x. 60 IN DS " + ds); err != nil || rr == nil {
				refuse(rw, http.StatusUnprocessableEntity, "bad_ds", "this is no DS record: "+ds)
				return false
			}
		}
		d.DS = body.DS
		d.Journal = append(d.Journal, "ds "+strings.Join(body.DS, ", "))
		return true
	}))
	mux.HandleFunc("PUT /registrations/{domain}/glue/{host}", w.withDomain(func(rw http.ResponseWriter, r *http.Request, d *domain) bool {
		var body struct {
			Addresses []string `json:"addresses"`
		}
		if !read(rw, r, &body) {
			return false
		}
		host := dns.CanonicalName(r.PathValue("host"))
		if !dns.IsSubDomain(dns.CanonicalName(r.PathValue("domain")), host) || len(body.Addresses) == 0 {
			refuse(rw, http.StatusUnprocessableEntity, "bad_glue", host+" is not within the domain, or has no address")
			return false
		}
		if d.Glue == nil {
			d.Glue = map[string][]string{}
		}
		d.Glue[host] = body.Addresses
		d.Journal = append(d.Journal, "glue "+host+" "+strings.Join(body.Addresses, " "))
		return true
	}))
	mux.HandleFunc("DELETE /registrations/{domain}/glue/{host}", w.withDomain(func(_ http.ResponseWriter, r *http.Request, d *domain) bool {
		host := dns.CanonicalName(r.PathValue("host"))
		delete(d.Glue, host)
		d.Journal = append(d.Journal, "glue "+host)
		return true
	}))
	mux.HandleFunc("PUT /registrations/{domain}/states/{state}", w.withDomain(func(_ http.ResponseWriter, r *http.Request, d *domain) bool {
		if state := r.PathValue("state"); !slices.Contains(d.States, state) {
			d.States = append(d.States, state)
		}
		return true
	}))
	mux.HandleFunc("DELETE /registrations/{domain}/states/{state}", w.withDomain(func(_ http.ResponseWriter, r *http.Request, d *domain) bool {
		d.States = slices.DeleteFunc(d.States, func(s string) bool { return s == r.PathValue("state") })
		return true
	}))
	return w.locked("gannet", keyInHeader("Authorization", "Bearer "), mux)
}

func hostList(hosts []string) ([]string, error) {
	var out []string
	for _, h := range hosts {
		if _, ok := dns.IsDomainName(h); !ok || dns.CountLabel(h) < 2 {
			return nil, fmt.Errorf("%q is no host name", h)
		}
		out = append(out, dns.CanonicalName(h))
	}
	slices.Sort(out)
	if len(slices.Compact(slices.Clone(out))) != len(hosts) || len(out) < 2 || len(out) > 13 {
		return nil, fmt.Errorf("a list has 2 to 13 different hosts")
	}
	return out, nil
}

// withDomain finds the domain, lets act change it, and answers with what it is then.
func (w *World) withDomain(act func(http.ResponseWriter, *http.Request, *domain) bool) http.HandlerFunc {
	return func(rw http.ResponseWriter, r *http.Request) {
		name := dns.CanonicalName(r.PathValue("domain"))
		d := w.state.Domains[name]
		if d == nil || d.Registrar != "" {
			refuse(rw, http.StatusNotFound, "no_such_domain", name+" is not registered here")
			return
		}
		if i := slices.IndexFunc(d.States, func(state string) bool { return strings.HasSuffix(state, " update prohibited") }); i >= 0 && r.Method != http.MethodGet && r.PathValue("state") == "" {
			refuse(rw, http.StatusConflict, "locked", "the domain is locked: "+d.States[i])
			return
		}
		if !act(rw, r, d) {
			return
		}
		if r.Method != http.MethodGet {
			w.changed()
		}
		answer(rw, http.StatusOK, showDomain(name, d))
	}
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
