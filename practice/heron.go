package practice

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/miekg/dns"
)

// Heron's ways: record sets by relative name and type, cursors, at most so many sets in one change, a least TTL.
const (
	heronPage     = 40
	heronMostSets = 20
	heronLeastTTL = 30

	heronLongestNegative = 3600
)

type heronSet struct {
	Label  string   `json:"label"` // relative to the zone; "" for its apex
	Kind   string   `json:"kind"`
	TTL    uint32   `json:"ttl"`
	Values []string `json:"values"`
	Relay  bool     `json:"relay"` // nameservers answer with addresses of Heron's own
}

type heronZone struct {
	ID     string   `json:"id"`
	Domain string   `json:"domain"`
	Served []string `json:"served_by"`
}

// heron is the HTTP interface of the provider that the demo moves to.
func (w *World) heron() http.Handler {
	p := w.state.Providers["heron"]
	mux := http.NewServeMux()
	show := func(z *hostedZone) heronZone {
		return heronZone{z.ID, strings.TrimSuffix(z.Name, "."), p.nameservers(z)}
	}
	mux.HandleFunc("GET /v1/zones", func(rw http.ResponseWriter, r *http.Request) {
		page, next := pageOf(sortedKeys(p.Zones), r.URL.Query().Get("cursor"), heronPage)
		zones := []heronZone{}
		for _, name := range page {
			zones = append(zones, show(p.Zones[name]))
		}
		answer(rw, http.StatusOK, map[string]any{"zones": zones, "next_cursor": next})
	})
	mux.HandleFunc("POST /v1/zones", func(rw http.ResponseWriter, r *http.Request) {
		var body struct {
			Domain string `json:"domain"`
		}
		if !read(rw, r, &body) {
			return
		}
		name := dns.CanonicalName(body.Domain)
		if _, ok := dns.IsDomainName(name); !ok || dns.CountLabel(name) < 2 {
			refuse(rw, http.StatusUnprocessableEntity, "bad_domain", fmt.Sprintf("%q cannot be a zone here", body.Domain))
			return
		}
		if p.Zones[name] != nil {
			refuse(rw, http.StatusConflict, "zone_exists", name+" is already a zone of this account")
			return
		}
		z := p.create(name)
		w.changed()
		answer(rw, http.StatusCreated, show(z))
	})
	mux.HandleFunc("GET /v1/zones/{id}", heronWith(p, func(rw http.ResponseWriter, _ *http.Request, z *hostedZone) {
		answer(rw, http.StatusOK, show(z))
	}))
	mux.HandleFunc("DELETE /v1/zones/{id}", heronWith(p, func(rw http.ResponseWriter, _ *http.Request, z *hostedZone) {
		delete(p.Zones, z.Name)
		w.changed()
		rw.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("GET /v1/zones/{id}/sets", heronWith(p, func(rw http.ResponseWriter, r *http.Request, z *hostedZone) {
		sets := heronSets(w.shown("4.1", p, z))
		page, next := pageOf(sortedKeys(sets), r.URL.Query().Get("cursor"), heronPage)
		out := []heronSet{}
		for _, key := range page {
			out = append(out, sets[key])
		}
		answer(rw, http.StatusOK, map[string]any{"sets": out, "next_cursor": next})
	}))
	mux.HandleFunc("GET /v1/zones/{id}/names/{name}", heronWith(p, func(rw http.ResponseWriter, r *http.Request, z *hostedZone) {
		name := dns.CanonicalName(r.PathValue("name"))
		seen := *w.shown("4.1", p, z)
		seen.Records = slices.DeleteFunc(slices.Clone(seen.Records), func(line string) bool { return !strings.HasPrefix(line, name+" ") })
		out := []heronSet{}
		sets := heronSets(&seen)
		for _, key := range sortedKeys(sets) {
			out = append(out, sets[key])
		}
		answer(rw, http.StatusOK, map[string]any{"sets": out})
	}))
	mux.HandleFunc("POST /v1/zones/{id}/changes", heronWith(p, w.heronChange))
	mux.HandleFunc("GET /v1/zones/{id}/timing", heronWith(p, func(rw http.ResponseWriter, _ *http.Request, z *hostedZone) {
		answer(rw, http.StatusOK, p.startOf(z))
	}))
	mux.HandleFunc("PUT /v1/zones/{id}/timing", heronWith(p, func(rw http.ResponseWriter, r *http.Request, z *hostedZone) {
		var s startOfZone
		if !read(rw, r, &s) {
			return
		}
		if _, ok := dns.IsDomainName(strings.Replace(s.Contact, "@", ".", 1)); !ok || strings.Count(s.Contact, "@") != 1 || s.Negative > heronLongestNegative || min(s.Refresh, s.Retry, s.Expire, s.Negative) == 0 {
			refuse(rw, http.StatusUnprocessableEntity, "bad_timing", fmt.Sprintf("contact is a mail address, the times are seconds, and negative is at most %d", heronLongestNegative))
			return
		}
		z.Start = &s
		z.Serial++
		w.changed()
		answer(rw, http.StatusOK, s)
	}))
	return w.locked("heron", keyInHeader("Heron-Key", ""), mux)
}

func heronWith(p *providerState, next func(http.ResponseWriter, *http.Request, *hostedZone)) http.HandlerFunc {
	return func(rw http.ResponseWriter, r *http.Request) {
		z := p.byID(r.PathValue("id"))
		if z == nil {
			refuse(rw, http.StatusNotFound, "no_such_zone", "no zone of this account has this id")
			return
		}
		next(rw, r, z)
	}
}

// heronSets groups a zone's records by set.
func heronSets(z *hostedZone) map[string]heronSet {
	sets := map[string]heronSet{}
	for _, line := range z.Records {
		rr, err := dns.NewRR(line)
		if err != nil || rr == nil {
			continue
		}
		h := rr.Header()
		label := strings.TrimSuffix(strings.TrimSuffix(h.Name, z.Name), ".")
		key := label + " " + dns.TypeToString[h.Rrtype]
		s := sets[key]
		s.Label, s.Kind, s.TTL = label, dns.Type(h.Rrtype).String(), h.Ttl
		value := strings.TrimPrefix(rr.String(), h.String())
		if txt, ok := rr.(*dns.TXT); ok { // texts are kept without quotes
			value = plainText(txt)
		}
		s.Values = append(s.Values, value)
		s.Relay = z.Relay[heronName(label, z.Name)+" "+s.Kind]
		sets[key] = s
	}
	return sets
}

// heronChange puts and drops sets, all or nothing.
func (w *World) heronChange(rw http.ResponseWriter, r *http.Request, z *hostedZone) {
	var body struct {
		Put  []heronSet `json:"put"`
		Drop []heronSet `json:"drop"`
	}
	if !read(rw, r, &body) {
		return
	}
	if len(body.Put)+len(body.Drop) > heronMostSets {
		refuse(rw, http.StatusUnprocessableEntity, "too_many_sets", fmt.Sprintf("a change has at most %d sets", heronMostSets))
		return
	}
	gone := map[string]bool{}
	for _, s := range append(body.Drop, body.Put...) {
		gone[heronName(s.Label, z.Name)+" "+s.Kind] = true
	}
	records := slices.DeleteFunc(slices.Clone(z.Records), func(line string) bool {
		rr, err := dns.NewRR(line)
		return err == nil && gone[rr.Header().Name+" "+dns.Type(rr.Header().Rrtype).String()]
	})
	for _, s := range body.Put {
		for _, value := range s.Values {
			if s.Kind == "TXT" {
				value = quotedText(value)
			}
			line := fmt.Sprintf("%s %d IN %s %s", heronName(s.Label, z.Name), s.TTL, s.Kind, value)
			rr, err := dns.NewRR(line)
			if err != nil || rr == nil || s.TTL < heronLeastTTL {
				refuse(rw, http.StatusUnprocessableEntity, "bad_set", fmt.Sprintf("%q cannot be a record here", line))
				return
			}
			records = append(records, normalRecord(rr))
		}
	}
	if name := standAlone(records); name != "" {
		refuse(rw, http.StatusUnprocessableEntity, "collision", name+" would have a CNAME beside other data")
		return
	}
	var changes []string // by what was asked for, whether it made a difference or not
	for _, s := range body.Put {
		changes = append(changes, "put "+heronName(s.Label, z.Name)+" "+s.Kind)
	}
	for _, s := range body.Drop {
		changes = append(changes, "drop "+heronName(s.Label, z.Name)+" "+s.Kind)
	}
	if z.Relay == nil {
		z.Relay = map[string]bool{}
	}
	for _, s := range body.Drop {
		delete(z.Relay, heronName(s.Label, z.Name)+" "+s.Kind)
	}
	for _, s := range body.Put {
		z.Relay[heronName(s.Label, z.Name)+" "+s.Kind] = s.Relay
	}
	z.replace(records, changes)
	w.recordsChanged(w.state.Providers["heron"], z)
	answer(rw, http.StatusOK, map[string]any{"put": len(body.Put), "dropped": len(body.Drop), "serial": z.Serial})
}

// plainText returns the octets of a TXT record as one text.
func plainText(txt *dns.TXT) string {
	raw := make([]byte, 1024)
	var out []byte
	for _, part := range txt.Txt {
		one := &dns.TXT{Hdr: dns.RR_Header{Name: ".", Rrtype: dns.TypeTXT, Class: dns.ClassINET}, Txt: []string{part}}
		n, err := dns.PackRR(one, raw, 0, nil, false)
		if err != nil {
			return strings.Join(txt.Txt, "")
		}
		out = append(out, raw[12:n]...) // behind header and length octet
	}
	return string(out)
}

// quotedText writes a text as the strings of a TXT record.
func quotedText(text string) string {
	var parts []string
	for first := true; first || text != ""; first = false {
		n := min(len(text), 255)
		var b strings.Builder
		for _, c := range []byte(text[:n]) {
			fmt.Fprintf(&b, "\\%03d", c)
		}
		parts = append(parts, `"`+b.String()+`"`)
		text = text[n:]
	}
	return strings.Join(parts, " ")
}

func heronName(label, zone string) string {
	if label == "" {
		return zone
	}
	return dns.CanonicalName(label + "." + zone)
}

// standAlone returns a name that has a CNAME and something else, if there is one.
func standAlone(records []string) string {
	types := map[string]map[uint16]bool{}
	for _, line := range records {
		if rr, err := dns.NewRR(line); err == nil {
			h := rr.Header()
			if types[h.Name] == nil {
				types[h.Name] = map[uint16]bool{}
			}
			types[h.Name][h.Rrtype] = true
			if types[h.Name][dns.TypeCNAME] && len(types[h.Name]) > 1 {
				return h.Name
			}
		}
	}
	return ""
}

// pageOf cuts sorted keys into pages; the cursor is the place where the next one begins.
func pageOf(keys []string, cursor string, size int) (page []string, next string) {
	start, _ := strconv.Atoi(cursor)
	start = min(max(start, 0), len(keys))
	end := min(start+size, len(keys))
	if end < len(keys) {
		next = strconv.Itoa(end)
	}
	return keys[start:end], next
}
