package practice

import (
	"fmt"
	"html/template"
	"net/http"
	"slices"
	"strings"

	"github.com/miekg/dns"
)

// The operator's page of a provider: its own site, where somebody changes a record by hand behind everybody's back. It
// knows no keys: whoever stands at this machine is the operator.

var operatorPage = template.Must(template.New("operator").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><title>{{.Name}}: operator</title>
<style>body{font:15px/1.5 sans-serif;max-width:60rem;margin:2rem auto;padding:0 1rem;color:#12242f}table{border-collapse:collapse;width:100%}
td{border-bottom:1px solid #cdd8de;padding:.3rem .5rem;font-family:monospace}input{font:inherit;padding:.3rem .5rem}input[name=line]{width:38rem}
.said{background:#fff3d6;padding:.5rem .8rem}button{font:inherit;padding:.3rem .8rem}</style>
<h1>{{.Name}}, its operator's page</h1>
{{with .Said}}<p class="said" role="status">{{.}}</p>{{end}}
<p>A practice provider. What is changed here, the nameservers answer at once, and nobody is told.</p>
{{range .Zones}}<h2>{{.Name}}</h2>
<table>{{$zone := .Name}}{{range .Records}}<tr><td>{{.}}</td><td><form method="post"><input type="hidden" name="zone" value="{{$zone}}">
<input type="hidden" name="drop" value="{{.}}"><button>Remove</button></form></td></tr>{{end}}</table>
<form method="post"><input type="hidden" name="zone" value="{{.Name}}">
<p><label>Put a record, in place of what has its name and type: <input name="line" placeholder="www.{{.Name}} 300 IN A 192.0.2.77" required></label> <button>Put</button></p></form>
{{else}}<p>No zone is here yet.</p>{{end}}</html>`))

// operator serves the page of a provider at /operator, and the interface everywhere else.
func (w *World) operator(p *providerState, api http.Handler) http.Handler {
	mux := http.NewServeMux()
	mux.Handle("/", api)
	show := func(rw http.ResponseWriter, status int, said string) {
		type zone struct {
			Name    string
			Records []string
		}
		data := struct {
			Name, Said string
			Zones      []zone
		}{Name: strings.ToUpper(p.name[:1]) + p.name[1:], Said: said}
		for _, name := range sortedKeys(p.Zones) {
			data.Zones = append(data.Zones, zone{name, p.Zones[name].Records})
		}
		rw.Header().Set("Content-Type", "text/html; charset=utf-8")
		rw.WriteHeader(status)
		_ = operatorPage.Execute(rw, data)
	}
	mux.HandleFunc("GET /operator", func(rw http.ResponseWriter, _ *http.Request) {
		w.mu.RLock()
		defer w.mu.RUnlock()
		show(rw, http.StatusOK, "")
	})
	mux.HandleFunc("POST /operator", func(rw http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(rw, r.Body, 64<<10)
		w.mu.Lock()
		defer w.mu.Unlock()
		said, status := "Done.", http.StatusOK
		if err := w.byHand(p, dns.CanonicalName(r.FormValue("zone")), r.FormValue("line"), r.FormValue("drop")); err != nil {
			said, status = err.Error(), http.StatusUnprocessableEntity
		}
		show(rw, status, said)
	})
	return mux
}

// byHand puts a record in place of those of its name and type, or takes one away; the caller holds the lock.
func (w *World) byHand(p *providerState, zone, line, drop string) error {
	z := p.Zones[zone]
	if z == nil {
		return fmt.Errorf("there is no zone %s here", zone)
	}
	records := slices.DeleteFunc(slices.Clone(z.Records), func(have string) bool { return have == drop })
	if line != "" {
		rr, err := dns.NewRR(line)
		if err != nil || rr == nil || !dns.IsSubDomain(zone, rr.Header().Name) {
			return fmt.Errorf("%q is no record of %s; write it like www.%s 300 IN A 192.0.2.77", line, zone, zone)
		}
		rr.Header().Name = dns.CanonicalName(rr.Header().Name)
		records = slices.DeleteFunc(records, func(have string) bool {
			old, err := dns.NewRR(have)
			return err == nil && old != nil && old.Header().Name == rr.Header().Name && old.Header().Rrtype == rr.Header().Rrtype
		})
		records = append(records, normalRecord(rr))
	}
	if name := standAlone(records); name != "" {
		return fmt.Errorf("%s would have a CNAME beside other data", name)
	}
	z.replace(records, []string{"by hand " + zone})
	w.changed()
	return nil
}
