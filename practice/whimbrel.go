package practice

import (
	"crypto/rand"
	"net/http"
	"strings"
	"time"
)

// whimbrelTokens is for how long a token of Whimbrel's holds, real time; as short as tokens get, so that they end in the middle of things.
const whimbrelTokens = 20 * time.Second

// whimbrel is the HTTP interface of a provider that hands out tokens for an identifier and a secret (RFC 6749 section 4.4). Each type of a name has
// an address of its own.
func (w *World) whimbrel() http.Handler {
	p := w.state.Providers["whimbrel"]
	given := map[string]givenToken{} // by token; with the lock held
	mux := http.NewServeMux()
	show := func(z *hostedZone) map[string]any {
		return map[string]any{"zone": z.Name, "nameservers": p.nameservers(z)}
	}
	mux.HandleFunc("GET /v2/zones", func(rw http.ResponseWriter, _ *http.Request) {
		zones := []any{}
		for _, name := range sortedKeys(p.Zones) {
			zones = append(zones, show(p.Zones[name]))
		}
		answer(rw, http.StatusOK, map[string]any{"zones": zones})
	})
	mux.HandleFunc("POST /v2/zones", func(rw http.ResponseWriter, r *http.Request) {
		var body struct{ Zone string }
		if !read(rw, r, &body) {
			return
		}
		z, ok := p.makeZone(body.Zone)
		if !ok {
			refuse(rw, http.StatusConflict, "zone_taken", body.Zone+" is here, or cannot be a zone")
			return
		}
		w.changed()
		answer(rw, http.StatusCreated, show(z))
	})
	with := func(next func(http.ResponseWriter, *http.Request, *hostedZone)) http.HandlerFunc {
		return p.in(refuse, next)
	}
	mux.HandleFunc("DELETE /v2/zones/{zone}", with(func(rw http.ResponseWriter, _ *http.Request, z *hostedZone) {
		delete(p.Zones, z.Name)
		w.changed()
		rw.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("GET /v2/zones/{zone}/sets", with(func(rw http.ResponseWriter, r *http.Request, z *hostedZone) {
		sets, next := []map[string]any{}, ""
		for _, s := range z.sets(w.shown(whimbrelAPI, p, z).Records) {
			if key := s.Name + " " + s.Type; key < r.URL.Query().Get("from") {
				continue
			} else if len(sets) == 100 {
				next = key
				break
			}
			sets = append(sets, map[string]any{"owner": s.Name, "type": s.Type, "ttl": s.TTL, "data": s.Values})
		}
		answer(rw, http.StatusOK, map[string]any{"sets": sets, "from": next})
	}))
	change := with(func(rw http.ResponseWriter, r *http.Request, z *hostedZone) {
		var body struct {
			TTL  uint32
			Data []string
		}
		if r.Method == http.MethodPut && !read(rw, r, &body) {
			return
		}
		if err := z.with([]recordSet{{r.PathValue("owner"), strings.ToUpper(r.PathValue("type")), body.TTL, body.Data}}); err != nil {
			refuse(rw, http.StatusUnprocessableEntity, "set_refused", err.Error())
			return
		}
		w.changed()
		rw.WriteHeader(http.StatusNoContent)
	})
	mux.HandleFunc("PUT /v2/zones/{zone}/{type}/{owner}", change)
	mux.HandleFunc("DELETE /v2/zones/{zone}/{type}/{owner}", change)
	byToken := w.locked("whimbrel", func(r *http.Request) (string, bool) {
		token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		w.mu.Lock()
		defer w.mu.Unlock()
		g := given[token]
		return g.key, ok && time.Now().Before(g.until)
	}, mux)
	all := http.NewServeMux()
	all.Handle("/", byToken)
	all.HandleFunc("POST /oauth/token", func(rw http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(rw, r.Body, 64<<10)
		id, secret, _ := r.BasicAuth()
		key := id + ":" + secret
		if _, known := tokens["whimbrel"][key]; !known || r.FormValue("grant_type") != "client_credentials" {
			answer(rw, http.StatusUnauthorized, map[string]string{"error": "invalid_client", "error_description": "this identifier and secret are not known here"})
			return
		}
		token := rand.Text()
		w.mu.Lock()
		given[token] = givenToken{key, time.Now().Add(whimbrelTokens)}
		w.mu.Unlock()
		answer(rw, http.StatusOK, map[string]any{"access_token": token, "token_type": "Bearer", "expires_in": int(whimbrelTokens / time.Second)})
	})
	return all
}

// givenToken is a token that was handed out, and for which key.
type givenToken struct {
	key   string
	until time.Time
}
