package practice

import (
	"net/http"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// rdap is the registries' public information about registrations (RFC 9082, RFC 9083). It needs no key.
func (w *World) rdap() http.Handler {
	mux := http.NewServeMux()
	say := func(rw http.ResponseWriter, status int, body map[string]any) {
		body["rdapConformance"] = []string{"rdap_level_0"}
		rw.Header().Set("Access-Control-Allow-Origin", "*")
		answerAs(rw, "application/rdap+json", status, body)
	}
	mux.HandleFunc("GET /domain/{name}", func(rw http.ResponseWriter, r *http.Request) {
		name := dns.CanonicalName(r.PathValue("name"))
		w.mu.RLock()
		defer w.mu.RUnlock()
		d := w.state.Domains[name]
		if d == nil {
			say(rw, http.StatusNotFound, map[string]any{"errorCode": http.StatusNotFound, "title": "not registered"})
			return
		}
		servers := []map[string]any{}
		for _, host := range d.InForce {
			servers = append(servers, map[string]any{"objectClassName": "nameserver", "ldhName": strings.TrimSuffix(host, ".")})
		}
		status := append([]string{}, d.States...)
		if len(status) == 0 {
			status = append(status, "active")
		}
		say(rw, http.StatusOK, map[string]any{"objectClassName": "domain", "ldhName": strings.TrimSuffix(name, "."), "status": status, "nameservers": servers,
			"entities":  []map[string]any{{"objectClassName": "entity", "handle": "R" + registrarOf(d), "roles": []string{"registrar"}, "vcardArray": []any{"vcard", [][]any{{"version", map[string]any{}, "text", "4.0"}, {"fn", map[string]any{}, "text", registrarOf(d)}}}}},
			"secureDNS": map[string]any{"delegationSigned": len(d.DS) > 0}, "events": []map[string]any{{"eventAction": "expiration", "eventDate": d.Expires.UTC().Format(time.RFC3339)}}})
	})
	return w.upToDate(mux)
}

// registrarOf is the name of the company that holds a registration.
func registrarOf(d *domain) string {
	if d.Registrar == "skua" {
		return "Skua Registrations"
	}
	return "Gannet Names"
}
