package profiletest

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
)

// Office keeps registrations behind the interfaces of registrars that the example profiles describe.
type Office struct {
	sync.Mutex
	domains map[string]*held
	orders  map[string]func()
	last    int
	journal []string // each change that was done
}

type held struct {
	NS      []string
	Glue    map[string][]string
	DS      []map[string]any
	Keys    []map[string]any
	Flags   []string
	pending map[string]time.Time // operations, by when they are done
}

// NewOffice returns an office that holds some domains.
func NewOffice(domains ...string) *Office {
	o := &Office{domains: map[string]*held{}, orders: map[string]func(){}}
	for _, name := range domains {
		o.domains[name] = &held{NS: []string{"a.plover.test", "b.plover.test"}, Glue: map[string][]string{}, Flags: []string{}, pending: map[string]time.Time{}}
	}
	return o
}

// names checks a list of nameservers as a registrar does.
func names(list []string, dot bool, most int) error {
	seen := map[string]bool{}
	for _, n := range list {
		if seen[n] || strings.HasSuffix(n, ".") != dot {
			return fmt.Errorf("%q is there twice, or is not written as it should be", n)
		}
		if _, ok := dns.IsDomainName(n); !ok {
			return fmt.Errorf("%q is no name", n)
		}
		seen[n] = true
	}
	if len(list) < 2 || len(list) > most {
		return fmt.Errorf("2 to %d names", most)
	}
	return nil
}

func (o *Office) done(what string, args ...any) {
	o.journal = append(o.journal, fmt.Sprintf(what, args...))
}

func (o *Office) page(from, count int) (list []string, more bool) {
	for name := range o.domains {
		list = append(list, name)
	}
	slices.Sort(list)
	end := min(from+count, len(list))
	return list[min(from, len(list)):end], end < len(list)
}

// fulmar wants each order confirmed, and the password once more.
func (o *Office) fulmar(rw http.ResponseWriter, r *http.Request) {
	refuse := func(status int, code, why string) { say(rw, status, map[string]string{"code": code, "why": why}) }
	user, password, _ := r.BasicAuth()
	if user != "harbour-desk" || password != "fulmar-test-word" {
		refuse(401, "no", "not "+password)
		return
	}
	path := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	var in struct {
		Domain, Kind, Host string
		NS, IPs            []string
		DS                 []map[string]any
		Again              string `json:"password_again"`
	}
	_ = json.NewDecoder(r.Body).Decode(&in)
	if r.Method == "POST" && in.Again != "fulmar-test-word" {
		refuse(403, "again", "give the password again")
		return
	}
	if path[0] == "orders" {
		o.fulmarOrder(rw, r, path, in.Domain, in.Kind, in.Host, in.NS, in.IPs, in.DS, refuse)
		return
	}
	if len(path) == 1 {
		page, _ := strconv.Atoi(r.URL.Query().Get("page"))
		list, more := o.page((page-1)*2, 2)
		out := []any{}
		for _, name := range list {
			out = append(out, map[string]any{"fqdn": name, "ns": o.domains[name].NS})
		}
		say(rw, 200, map[string]any{"list": out, "more": more})
		return
	}
	d := o.domains[path[1]]
	if d == nil {
		refuse(400, "none-such", "we do not hold "+path[1])
		return
	}
	if len(path) == 4 {
		if i := slices.Index(d.Flags, path[3]); r.Method == "PUT" && i < 0 {
			d.Flags = append(d.Flags, path[3])
		} else if r.Method == "DELETE" && i >= 0 {
			d.Flags = slices.Delete(d.Flags, i, i+1)
		}
		say(rw, 200, nil)
		return
	}
	flags, glue := []any{}, []any{}
	for _, f := range d.Flags {
		flags = append(flags, map[string]string{"code": f, "note": "set at the desk"})
	}
	for host, ips := range d.Glue {
		glue = append(glue, map[string]any{"host": host, "ips": ips})
	}
	say(rw, 200, map[string]any{"fqdn": path[1], "ns": d.NS, "until": "2031-01-02", "flags": flags, "glue": glue, "ds": append([]map[string]any{}, d.DS...)})
}

func (o *Office) fulmarOrder(rw http.ResponseWriter, r *http.Request, path []string, domain, kind, host string, ns, ips []string, ds []map[string]any, refuse func(int, string, string)) {
	if len(path) > 1 {
		do := o.orders[path[1]]
		if do == nil {
			refuse(400, "none-such", "there is no such order")
			return
		}
		delete(o.orders, path[1])
		if r.Method == "POST" {
			do()
		}
		say(rw, 200, nil)
		return
	}
	d := o.domains[domain]
	if d == nil {
		refuse(400, "none-such", "we do not hold "+domain)
		return
	}
	if kind == "ns" {
		if err := names(ns, false, 8); err != nil {
			refuse(422, "bad", err.Error())
			return
		}
	}
	o.last++
	id := strconv.Itoa(o.last)
	o.orders[id] = func() {
		switch kind {
		case "ns":
			d.NS = ns
		case "ds":
			d.DS = ds
		default:
			if d.Glue[host] = ips; len(ips) == 0 {
				delete(d.Glue, host)
			}
		}
		o.done("%s %s", kind, domain)
	}
	say(rw, 201, map[string]any{"order": o.last})
}

// petrel does everything a moment later.
func (o *Office) petrel(rw http.ResponseWriter, r *http.Request) {
	refuse := func(status int, why string) { say(rw, status, map[string]string{"detail": why}) }
	if r.Header.Get("X-Petrel-Key") != "petrel-test-word" {
		refuse(403, "unknown key")
		return
	}
	now := time.Now()
	for _, d := range o.domains {
		for id, due := range d.pending {
			if do := o.orders[id]; !now.Before(due) && do != nil {
				do()
				delete(o.orders, id)
				delete(d.pending, id)
			}
		}
	}
	path := strings.Split(strings.Trim(r.URL.Path, "/"), "/")[1:]
	if path[0] == "operations" {
		state := "done"
		if o.orders[path[1]] != nil {
			state = "waiting"
		}
		say(rw, 200, map[string]string{"state": state})
		return
	}
	if len(path) == 1 {
		from, _ := strconv.Atoi(r.URL.Query().Get("cursor"))
		list, more := o.page(from, 1)
		out := []any{}
		for _, name := range list {
			out = append(out, map[string]any{"name": name, "servers": o.domains[name].NS})
		}
		body := map[string]any{"names": out}
		if more {
			body["next"] = from + 1
		}
		say(rw, 200, body)
		return
	}
	d := o.domains[path[1]]
	if d == nil {
		refuse(404, "no such name")
		return
	}
	if r.Method == "PUT" {
		var in struct {
			Servers []string
			Keys    []map[string]any
		}
		_ = json.NewDecoder(r.Body).Decode(&in)
		if path[2] == "servers" {
			if err := names(in.Servers, true, 4); err != nil {
				refuse(422, err.Error())
				return
			}
		}
		o.last++
		id := strconv.Itoa(o.last)
		d.pending[id] = now.Add(150 * time.Millisecond)
		o.orders[id] = func() {
			if path[2] == "servers" {
				d.NS = in.Servers
			} else {
				d.Keys = in.Keys
			}
			o.done("%s %s", path[2], path[1])
		}
		say(rw, 202, map[string]any{"operation": id})
		return
	}
	operations := []any{}
	for id := range d.pending {
		operations = append(operations, map[string]string{"id": id, "what": "a change that waits"})
	}
	say(rw, 200, map[string]any{"name": path[1], "servers": d.NS, "ends": "2031-01-02T03:04:05Z", "states": []string{"ok"}, "keys": append([]map[string]any{}, d.Keys...), "operations": operations})
}

// tern takes forms and answers in XML.
func (o *Office) tern(rw http.ResponseWriter, r *http.Request) {
	_ = r.ParseForm()
	reply := func(code int, inner string) {
		rw.Header().Set("Content-Type", "text/xml")
		_, _ = io.WriteString(rw, fmt.Sprintf(`<?xml version="1.0" encoding="utf-8"?><reply code="%d">%s</reply>`, code, inner))
	}
	refuse := func(code int, text string) { reply(code, "<msg>"+xmlText(text)+"</msg>") }
	if r.PostForm.Get("login") != "harbour-desk" || r.PostForm.Get("pass") != "tern-test-word" {
		refuse(2200, "not "+r.PostForm.Get("pass"))
		return
	}
	show := func(name string) string {
		var b strings.Builder
		fmt.Fprintf(&b, `<domain name="%s">`, name)
		for _, n := range o.domains[name].NS {
			b.WriteString("<ns>")
			_ = xml.EscapeText(&b, []byte(n))
			b.WriteString("</ns>")
		}
		b.WriteString("<ends>2031-01-02</ends><status>ok</status></domain>")
		return b.String()
	}
	name := r.PostForm.Get("domain")
	d := o.domains[name]
	switch command := r.PostForm.Get("command"); {
	case command == "list":
		from, _ := strconv.Atoi(r.PostForm.Get("first"))
		list, more := o.page(from, 2)
		out := ""
		for _, n := range list {
			out += show(n)
		}
		rw.Header().Set("Content-Type", "text/xml")
		_, _ = io.WriteString(rw, fmt.Sprintf(`<reply code="1000" more="%s">%s</reply>`, map[bool]string{true: "yes", false: "no"}[more], out))
	case d == nil:
		refuse(2303, "no such domain")
	case command == "info":
		reply(1000, show(name))
	default:
		if err := names(r.PostForm["ns"], false, 6); err != nil {
			refuse(2005, err.Error())
			return
		}
		d.NS = r.PostForm["ns"]
		o.done("ns %s", name)
		reply(1000, show(name))
	}
}

// Registrars are the interfaces that an office has, by the names of their profiles.
var Registrars = map[string]func(*Office, http.ResponseWriter, *http.Request){"fulmar": (*Office).fulmar, "petrel": (*Office).petrel, "tern": (*Office).tern}

// Serve answers as a registrar does. fault may return what goes wrong with a request: 1 where it is lost before it is read, 2 where its answer is
// lost; nil for nothing.
func (o *Office) Serve(name string, fault func(r *http.Request) int) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		o.Lock()
		defer o.Unlock()
		what := 0
		if fault != nil {
			what = fault(r)
		}
		switch what {
		case 1:
			panic(http.ErrAbortHandler)
		case 2:
			Registrars[name](o, nowhere{http.Header{}}, r)
			panic(http.ErrAbortHandler)
		}
		Registrars[name](o, rw, r)
	})
}

// nowhere takes an answer that nobody gets.
type nowhere struct{ header http.Header }

func (n nowhere) Header() http.Header         { return n.header }
func (n nowhere) Write(p []byte) (int, error) { return len(p), nil }
func (n nowhere) WriteHeader(int)             {}

// Journal returns each change that was done, in order.
func (o *Office) Journal() []string {
	o.Lock()
	defer o.Unlock()
	return slices.Clone(o.journal)
}

// Nameservers returns what a domain has.
func (o *Office) Nameservers(domain string) []string {
	o.Lock()
	defer o.Unlock()
	return slices.Clone(o.domains[domain].NS)
}

// Open returns how many orders were placed and neither confirmed nor withdrawn.
func (o *Office) Open() int {
	o.Lock()
	defer o.Unlock()
	return len(o.orders)
}

func say(rw http.ResponseWriter, status int, v any) {
	rw.Header().Set("Content-Type", "application/json")
	rw.WriteHeader(status)
	_ = json.NewEncoder(rw).Encode(v)
}

func xmlText(text string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(text))
	return b.String()
}
