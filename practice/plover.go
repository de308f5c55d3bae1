package practice

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// plover is the HTTP interface of the provider that the demo moves from: whole zones as master files, with an ETag
// that a replacement must name.
func (w *World) plover() http.Handler {
	p := w.state.Providers["plover"]
	mux := http.NewServeMux()
	type ploverZone struct {
		Zone  string   `json:"zone"`
		Hosts []string `json:"hosts"`
	}
	show := func(z *hostedZone) ploverZone { return ploverZone{z.Name, p.nameservers(z)} }
	mux.HandleFunc("GET /dns/zones", func(rw http.ResponseWriter, _ *http.Request) {
		zones := []ploverZone{}
		for _, name := range sortedKeys(p.Zones) {
			zones = append(zones, show(p.Zones[name]))
		}
		answer(rw, http.StatusOK, zones)
	})
	mux.HandleFunc("PUT /dns/zones/{zone}", func(rw http.ResponseWriter, r *http.Request) {
		name := dns.CanonicalName(r.PathValue("zone"))
		if p.Zones[name] != nil {
			refuse(rw, http.StatusConflict, "taken", "the zone is there already")
			return
		}
		if _, ok := dns.IsDomainName(name); !ok || dns.CountLabel(name) < 2 {
			refuse(rw, http.StatusBadRequest, "bad_zone", "this cannot be a zone")
			return
		}
		z := p.create(name)
		z.Records = []string{normalRecord(mustRR(name + " 3600 IN TXT \"this zone is new at Plover\"")), // records of the provider's own
			normalRecord(mustRR("www." + name + " 3600 IN CNAME " + name))}
		slices.Sort(z.Records)
		w.changed()
		answer(rw, http.StatusCreated, show(z))
	})
	with := func(next func(http.ResponseWriter, *http.Request, *hostedZone)) http.HandlerFunc {
		return func(rw http.ResponseWriter, r *http.Request) {
			z := p.Zones[dns.CanonicalName(r.PathValue("zone"))]
			if z == nil {
				refuse(rw, http.StatusNotFound, "unknown_zone", "the zone is not here")
				return
			}
			next(rw, r, z)
		}
	}
	mux.HandleFunc("DELETE /dns/zones/{zone}", with(func(rw http.ResponseWriter, _ *http.Request, z *hostedZone) {
		delete(p.Zones, z.Name)
		w.changed()
		rw.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("GET /dns/zones/{zone}/file", with(func(rw http.ResponseWriter, r *http.Request, z *hostedZone) {
		z = z.behind(w.ploverLag)
		rw.Header().Set("ETag", etag(z))
		if r.Header.Get("If-None-Match") == etag(z) {
			rw.WriteHeader(http.StatusNotModified)
			return
		}
		rw.Header().Set("Content-Type", "text/dns")
		fmt.Fprintf(rw, "$ORIGIN %s\n", z.Name)
		for _, line := range w.shown("5.1", p, z).Records {
			fmt.Fprintln(rw, line)
		}
	}))
	mux.HandleFunc("PUT /dns/zones/{zone}/file", with(w.ploverReplace))
	return w.locked("plover", keyInHeader("Authorization", "Plover "), mux)
}

func mustRR(line string) dns.RR {
	rr, err := dns.NewRR(line)
	if err != nil {
		panic(err)
	}
	return rr
}

// behind returns the zone as reads show it, which are so much behind writes.
func (z *hostedZone) behind(lag time.Duration) *hostedZone {
	if lag == 0 || time.Since(z.changedAt) >= lag || z.before == nil {
		return z
	}
	return z.before
}

func etag(z *hostedZone) string {
	sum := sha256.Sum256([]byte(fmt.Sprint(z.ID, z.Serial, z.Records)))
	return `"` + hex.EncodeToString(sum[:8]) + `"`
}

// ploverReplace takes a whole master file in place of the zone's records.
func (w *World) ploverReplace(rw http.ResponseWriter, r *http.Request, z *hostedZone) {
	if want := r.Header.Get("If-Match"); want == "" {
		refuse(rw, http.StatusPreconditionRequired, "if_match_missing", "say with If-Match which version is replaced")
		return
	} else if want != etag(z) {
		refuse(rw, http.StatusPreconditionFailed, "changed_meanwhile", "the zone is another version now")
		return
	}
	text, err := io.ReadAll(http.MaxBytesReader(rw, r.Body, 64<<20))
	if err != nil {
		refuse(rw, http.StatusBadRequest, "unreadable", err.Error())
		return
	}
	rest, follows, problem := followsOf(string(text), z.Name)
	if problem != "" {
		refuse(rw, http.StatusBadRequest, "bad_follow", problem)
		return
	}
	var records []string
	parser := dns.NewZoneParser(strings.NewReader(rest), z.Name, "")
	for rr, ok := parser.Next(); ok; rr, ok = parser.Next() {
		h := rr.Header()
		h.Name = dns.CanonicalName(h.Name)
		if !dns.IsSubDomain(z.Name, h.Name) {
			refuse(rw, http.StatusBadRequest, "outside", h.Name+" is outside the zone")
			return
		}
		if txt, ok := rr.(*dns.TXT); ok && len(txt.Txt) != 1 {
			refuse(rw, http.StatusBadRequest, "bad_text", h.Name+": a TXT record is one string here")
			return
		}
		if h.Name != z.Name || h.Rrtype != dns.TypeSOA && h.Rrtype != dns.TypeNS {
			records = append(records, normalRecord(rr))
		}
	}
	if err := parser.Err(); err != nil {
		refuse(rw, http.StatusBadRequest, "bad_file", err.Error())
		return
	}
	if name := standAlone(records); name != "" {
		refuse(rw, http.StatusBadRequest, "collision", name+" would have a CNAME beside other data")
		return
	}
	if follows != "" {
		for _, line := range records {
			if f := strings.Fields(line); f[0] == z.Name && (f[3] == "A" || f[3] == "AAAA" || f[3] == "CNAME") {
				refuse(rw, http.StatusBadRequest, "collision", "the apex follows another name and has an address too")
				return
			}
		}
		records = append(records, follows)
	}
	z.replace(records, z.changesTo(records))
	w.changed()
	rw.Header().Set("ETag", etag(z))
	rw.WriteHeader(http.StatusNoContent)
}

// followsOf takes the line out of a master file that says that the apex follows another name: "@ 300 FOLLOW web.example.". It is
// Plover's own, and no master file elsewhere has it.
func followsOf(text, zone string) (rest, follows, problem string) {
	var kept []string
	ttl := "600"
	for _, line := range strings.Split(text, "\n") {
		f := strings.Fields(line)
		if len(f) > 1 && f[0] == "$TTL" {
			ttl = f[1]
		}
		at := slices.Index(f, "FOLLOW")
		if at < 1 || at != len(f)-2 {
			kept = append(kept, line)
			continue
		}
		for _, word := range f[1:at] {
			if word != "IN" {
				ttl = word
			}
		}
		switch {
		case f[0] != "@" && dns.CanonicalName(f[0]) != zone:
			return "", "", "only the apex can follow another name"
		case follows != "":
			return "", "", "the apex can follow one name only"
		case !strings.HasSuffix(f[at+1], "."):
			return "", "", "the name that the apex follows ends with a dot"
		}
		follows = fmt.Sprintf("%s %s IN FOLLOW %s", zone, ttl, dns.CanonicalName(f[at+1]))
	}
	return strings.Join(kept, "\n"), follows, ""
}
