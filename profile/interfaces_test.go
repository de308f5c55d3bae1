package profile_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/profile"
	"beacon/profile/jq/jqtest"
	"beacon/provider/conform"
	"beacon/provider/conform/conformtest"
	registrarconform "beacon/registrar/conform"
)

// fromDocumentation are interfaces that were documented first (testdata/interfaces); their profiles were written from that and the guide.
func fromDocumentation(t *testing.T, name string) *profile.Profile {
	t.Helper()
	text, err := os.ReadFile("testdata/interfaces/" + name + ".profile.yaml")
	require.NoError(t, err)
	p, faults := profile.Load(name+".profile.yaml", text)
	require.Empty(t, faults)
	assert.Empty(t, p.Questions)
	return p
}

func TestProfilesFromDocumentation(t *testing.T) {
	pool := jqtest.Pool(t)
	for name, c := range map[string]struct {
		secret, wrong, quiet string
		serve                func(*testing.T, *bank) http.Handler
	}{
		"dotterel":  {"desk.dotterel-test-word", "desk.dotterel-wrong-word", "dotterel-wrong-word", dotterel},
		"ptarmigan": {"ptarmigan-test-word", "ptarmigan-wrong-word", "ptarmigan-wrong-word", ptarmigan},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p, server, runtime := fromDocumentation(t, name), httptest.NewServer(c.serve(t, newBank())), profile.NewRuntime(pool)
			t.Cleanup(server.Close)
			conformtest.Passes(t, conform.Subject{Driver: profile.New(p, runtime, client(server.URL, c.secret)), WrongKey: profile.New(p, runtime, client(server.URL, c.wrong)),
				Secret: c.quiet, Zone: dnsname.MustParse("scratch.example")}, 30)
		})
	}
	t.Run("siskin", func(t *testing.T) {
		t.Parallel()
		p, server, runtime := fromDocumentation(t, "siskin"), httptest.NewServer(siskin()), profile.NewRuntime(pool)
		t.Cleanup(server.Close)
		secret, wrong := parts("customer", "4711", "pin", "siskin-test-word"), parts("customer", "4711", "pin", "siskin-wrong-word")
		registrarPasses(t, registrarconform.Subject{Driver: profile.NewRegistrar(p, runtime, client(server.URL, secret)), WrongKey: profile.NewRegistrar(p, runtime, client(server.URL, wrong)),
			Secret: "siskin-wrong-word", Domain: dnsname.MustParse("scratch.example"), Other: []dnsname.Name{dnsname.MustParse("quay-11.heron.test"), dnsname.MustParse("quay-13.heron.test")}}, 9)
	})
}

type dotterelItem struct {
	Content string  `json:"content"`
	Prio    *uint16 `json:"prio,omitempty"`
}

// dotterelData is what is in a zone file for an item; host names end without a dot there.
func dotterelData(kind string, i dotterelItem) (string, bool) {
	data := i.Content
	if last := data[strings.LastIndexByte(data, ' ')+1:]; slices.Contains([]string{"MX", "SRV", "CNAME", "NS", "PTR"}, kind) {
		if strings.HasSuffix(last, ".") && last != "." {
			return "", false
		}
		data += "."
	}
	switch {
	case kind == "TXT":
		return txtData(data), i.Prio == nil
	case kind == "MX" || kind == "SRV":
		if i.Prio == nil {
			return "", false
		}
		return fmt.Sprintf("%d %s", *i.Prio, data), true
	}
	return data, i.Prio == nil
}

func txtData(text string) string {
	var list []string
	for len(text) > 255 {
		list, text = append(list, text[:255]), text[255:]
	}
	rr := &dns.TXT{Hdr: dns.RR_Header{Name: ".", Rrtype: dns.TypeTXT, Class: dns.ClassINET}}
	for _, part := range append(list, text) {
		var b strings.Builder
		for _, c := range []byte(part) {
			if c == '"' || c == '\\' || c < ' ' || c > '~' {
				fmt.Fprintf(&b, "\\%03d", c)
			} else {
				b.WriteByte(c)
			}
		}
		rr.Txt = append(rr.Txt, b.String())
	}
	return strings.TrimPrefix(rr.String(), rr.Hdr.String())
}

func dotterel(t *testing.T, b *bank) http.Handler {
	items := map[string][]dotterelItem{} // as they were sent, by zone and set
	return b.serve(t, func(rw http.ResponseWriter, r *http.Request) {
		refuse := func(status int, text string) {
			sayJSON(rw, status, map[string]string{"title": text, "slug": strings.ReplaceAll(text, " ", "-")})
		}
		if r.Header.Get("Authorization") != "Token desk.dotterel-test-word" {
			refuse(401, "key not known")
			return
		}
		show := func(z *bankZone) map[string]any {
			return map[string]any{"uuid": fmt.Sprintf("u-%d", z.No), "fqdn": z.Name, "ns": z.Servers}
		}
		path := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
		if len(path) == 1 && r.Method == "GET" {
			zones := []any{}
			for _, z := range b.sorted() {
				zones = append(zones, show(z))
			}
			sayJSON(rw, 200, map[string]any{"zones": zones})
			return
		}
		if len(path) == 1 {
			var in struct{ FQDN string }
			_ = json.NewDecoder(r.Body).Decode(&in)
			if z, ok := b.add(in.FQDN); ok {
				sayJSON(rw, 201, show(z))
			} else {
				refuse(409, "zone exists")
			}
			return
		}
		z := b.numbered(strings.TrimPrefix(path[1], "u-"))
		switch {
		case z == nil:
			refuse(404, "no such zone")
		case r.Method == "DELETE":
			delete(b.zones, z.Zone)
			sayJSON(rw, 200, nil)
		case r.Method == "GET":
			byName := map[string][]any{}
			for _, s := range sortedSets(z.Sets) {
				byName[s.Host] = append(byName[s.Host], map[string]any{"type": s.Type, "ttl": s.TTL, "items": items[z.Name+" "+s.Host+" "+s.Type]})
			}
			names, last := []any{}, any(nil)
			for _, name := range slices.Sorted(func(yield func(string) bool) {
				for n := range byName {
					if n > r.URL.Query().Get("after") && !yield(n) {
						return
					}
				}
			}) {
				if len(names) == 25 {
					last = names[24].(map[string]any)["name"]
					break
				}
				names = append(names, map[string]any{"name": name, "sets": byName[name]})
			}
			sayJSON(rw, 200, map[string]any{"names": names, "last": last})
		default:
			var in struct {
				Edits []struct {
					Op, Name, Type string
					TTL            int
					Items          []dotterelItem
				}
			}
			if err := json.NewDecoder(r.Body).Decode(&in); err != nil || len(in.Edits) > 40 {
				refuse(422, "edits cannot be read, or are too many")
				return
			}
			sets, sent := copied(z.Sets), map[string][]dotterelItem{}
			for _, e := range in.Edits {
				s := bankSet{Host: e.Name, Type: e.Type, TTL: e.TTL}
				for _, i := range e.Items {
					data, ok := dotterelData(e.Type, i)
					if !ok {
						refuse(422, "bad item "+i.Content)
						return
					}
					s.Data = append(s.Data, data)
				}
				if err := put(sets, s, false); err != nil || (e.Op == "set") != (len(e.Items) > 0) {
					refuse(422, fmt.Sprintf("bad edit of %s: %v", e.Name, err))
					return
				}
				sent[z.Name+" "+e.Name+" "+e.Type] = e.Items
			}
			if err := alone(sets); err != nil {
				refuse(422, err.Error())
				return
			}
			z.Sets = sets
			for k, v := range sent {
				items[k] = v
			}
			sayJSON(rw, 200, map[string]any{})
		}
	})
}

func ptarmigan(t *testing.T, b *bank) http.Handler {
	type job struct {
		due time.Time
		do  func() error
		why string
	}
	jobs, order, rid := map[string]*job{}, []string{}, 0
	return b.serve(t, func(rw http.ResponseWriter, r *http.Request) {
		refuse := func(code int, text string) { sayJSON(rw, 200, map[string]any{"ok": false, "code": code, "msg": text}) }
		for len(order) > 0 && time.Now().After(jobs[order[0]].due) { // in order
			j := jobs[order[0]]
			if err := j.do(); err != nil {
				j.why = err.Error()
			}
			j.do, order = nil, order[1:]
		}
		q := r.URL.Query()
		if q.Get("apikey") != "ptarmigan-test-word" {
			refuse(1001, "wrong key")
			return
		}
		show := func(z *bankZone) map[string]any {
			return map[string]any{"num": z.No, "name": z.Name, "servers": z.Servers}
		}
		page := func(list []any, size int) ([]any, int) {
			n, _ := strconv.Atoi(q.Get("page"))
			from := min(max(n-1, 0)*size, len(list))
			return list[from:min(from+size, len(list))], (len(list) + size - 1) / size
		}
		var in struct {
			Num, RID, TTL           int
			Name, FQDN, Type, Value string
		}
		if r.Method == "POST" {
			_ = json.NewDecoder(r.Body).Decode(&in)
		}
		num := q.Get("num")
		if num == "" {
			num = strconv.Itoa(in.Num)
		}
		z := b.numbered(num)
		switch r.URL.Path {
		case "/zone/list":
			all := []any{}
			for _, z := range b.sorted() {
				all = append(all, show(z))
			}
			list, pages := page(all, 2)
			sayJSON(rw, 200, map[string]any{"ok": true, "zones": list, "pages": pages})
			return
		case "/zone/add":
			if z, ok := b.add(in.Name); ok {
				sayJSON(rw, 200, map[string]any{"ok": true, "zone": show(z)})
			} else {
				refuse(1005, "the zone exists")
			}
			return
		case "/job":
			j := jobs[q.Get("id")]
			status := "finished"
			switch {
			case j == nil:
				refuse(1020, "no such job")
				return
			case j.do != nil:
				status = "queued"
			case j.why != "":
				status = "rejected"
			}
			sayJSON(rw, 200, map[string]any{"ok": true, "status": status, "why": j.why})
			return
		}
		if z == nil {
			refuse(1004, "no such zone")
			return
		}
		switch r.URL.Path {
		case "/zone/drop":
			delete(b.zones, z.Zone)
			sayJSON(rw, 200, map[string]any{"ok": true})
		case "/zone/records":
			all := []any{}
			for _, s := range sortedSets(z.Sets) {
				for i, d := range s.Data {
					fqdn := strings.TrimPrefix(s.Host+"."+z.Name, "@.")
					all = append(all, map[string]any{"rid": s.ids[i], "fqdn": fqdn, "type": s.Type, "ttl": s.TTL, "value": d})
				}
			}
			list, pages := page(all, 30)
			sayJSON(rw, 200, map[string]any{"ok": true, "records": list, "pages": pages})
		default:
			verb := strings.TrimPrefix(r.URL.Path, "/record/")
			if verb != "del" && !slices.Contains([]int{60, 300, 3600, 86400}, in.TTL) {
				refuse(1010, "the TTL is none of 60, 300, 3600, 86400")
				return
			}
			id := fmt.Sprintf("j%d", len(jobs)+1)
			jobs[id] = &job{due: time.Now().Add(10 * time.Millisecond), do: func() error { return ptarmiganEdit(z, verb, in.RID, in.FQDN, in.Type, in.TTL, in.Value, &rid) }}
			order = append(order, id)
			sayJSON(rw, 200, map[string]any{"ok": true, "job": id})
		}
	})
}

// ptarmiganEdit adds, replaces or removes one record; the sets of a name and type have one TTL, the last that was given.
func ptarmiganEdit(z *bankZone, verb string, at int, fqdn, kind string, ttl int, value string, rid *int) error {
	sets := copied(z.Sets)
	found := verb == "add"
	for k, s := range sets {
		if i := slices.Index(s.ids, at); i >= 0 && verb != "add" {
			found = true
			s.ids, s.Data = slices.Delete(slices.Clone(s.ids), i, i+1), slices.Delete(slices.Clone(s.Data), i, i+1)
			if sets[k] = s; len(s.Data) == 0 {
				delete(sets, k)
			}
		}
	}
	if !found {
		return fmt.Errorf("there is no record %d", at)
	}
	if verb != "del" {
		host := strings.TrimSuffix(strings.TrimSuffix(fqdn, z.Name), ".")
		if host == "" {
			host = "@"
		}
		s := sets[host+" "+kind]
		if slices.Contains(s.Data, value) {
			return fmt.Errorf("the record is there")
		}
		*rid++
		s.Host, s.Type, s.TTL, s.Data, s.ids = host, kind, ttl, append(slices.Clone(s.Data), value), append(slices.Clone(s.ids), *rid)
		if err := put(sets, s, false); err != nil {
			return err
		}
	}
	if err := alone(sets); err != nil {
		return err
	}
	z.Sets = sets
	return nil
}

func siskin() http.Handler {
	type ticket struct {
		due time.Time
		do  func()
	}
	type domain struct {
		hosts  []string
		dnssec []any
	}
	var mu sync.Mutex
	session, logins := "", 0
	domains := map[string]*domain{"scratch.example": {hosts: []string{"a.plover.test", "b.plover.test"}, dnssec: []any{}}}
	for i := range 60 {
		domains[fmt.Sprintf("d%02d.example", i)] = &domain{hosts: []string{"a.plover.test", "b.plover.test"}, dnssec: []any{}}
	}
	tickets := map[string]*ticket{}
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		refuse := func(status int, text string) { sayJSON(rw, status, map[string]string{"error": text}) }
		for _, t := range tickets {
			if t.do != nil && time.Now().After(t.due) {
				t.do()
				t.do = nil
			}
		}
		var in struct {
			Customer, Pin string
			Hosts         []string
			Records       []any
		}
		if r.Body != nil {
			_ = json.NewDecoder(r.Body).Decode(&in)
		}
		path := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
		switch {
		case path[0] == "login":
			if in.Customer != "4711" || in.Pin != "siskin-test-word" {
				refuse(401, "customer or pin is wrong")
				return
			}
			logins++
			session = fmt.Sprintf("s-%d", logins)
			sayJSON(rw, 200, map[string]string{"session": session})
			return
		case session == "" || r.Header.Get("X-Session") != session:
			refuse(401, "sign in first")
			return
		case path[0] == "logout":
			session = ""
			sayJSON(rw, 200, map[string]string{})
			return
		case path[0] == "tickets":
			phase := "closed"
			if t := tickets[path[1]]; t == nil {
				refuse(404, "no such ticket")
				return
			} else if t.do != nil {
				phase = "open"
			}
			sayJSON(rw, 200, map[string]string{"ticket": path[1], "phase": phase, "note": ""})
			return
		case len(path) == 1:
			from, _ := strconv.Atoi(r.URL.Query().Get("from"))
			all := []string{}
			for name := range domains {
				all = append(all, name)
			}
			slices.Sort(all)
			sayJSON(rw, 200, map[string]any{"domains": all[min(from, len(all)):min(from+50, len(all))], "total": len(all)})
			return
		}
		d := domains[path[1]]
		switch {
		case d == nil:
			refuse(404, "not your domain")
		case len(path) == 2:
			delegation, queue := []any{}, []any{}
			for i, h := range d.hosts {
				delegation = append(delegation, map[string]any{"pos": i + 1, "host": h})
			}
			for id, t := range tickets {
				if t.do != nil {
					queue = append(queue, map[string]string{"ticket": id, "about": "a change"})
				}
			}
			sayJSON(rw, 200, map[string]any{"domain": path[1], "until": "2031-05-01", "delegation": delegation, "dnssec": d.dnssec,
				"locks": []any{map[string]string{"name": "client transfer prohibited", "since": "2026-01-01", "because": "asked for by phone"}}, "queue": queue})
		default:
			for i, h := range in.Hosts {
				if strings.HasSuffix(h, ".") || slices.Contains(in.Hosts[:i], h) {
					refuse(422, "no final dot, and each once: "+h)
					return
				}
			}
			if path[2] == "delegation" && (len(in.Hosts) < 2 || len(in.Hosts) > 5) {
				refuse(422, "2 to 5 hosts")
				return
			}
			id := fmt.Sprintf("t%d", len(tickets)+1)
			tickets[id] = &ticket{due: time.Now().Add(100 * time.Millisecond), do: func() {
				if path[2] == "delegation" {
					d.hosts = in.Hosts
				} else {
					d.dnssec = append([]any{}, in.Records...)
				}
			}}
			sayJSON(rw, 202, map[string]string{"ticket": id})
		}
	})
}
