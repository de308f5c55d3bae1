package practice

import (
	"encoding/json"
	"net/http"
	"strings"
)

// problem is what a site answers when it refuses.
type problem struct {
	Code    string `json:"code"`
	Message string `json:"message"`
}

func answer(rw http.ResponseWriter, status int, body any) {
	rw.Header().Set("Content-Type", "application/json")
	rw.WriteHeader(status)
	_ = json.NewEncoder(rw).Encode(body)
}

func refuse(rw http.ResponseWriter, status int, code, message string) {
	answer(rw, status, map[string]problem{"error": {code, message}})
}

// read takes a JSON body of at most a few megabytes; it answers itself where that fails.
func read(rw http.ResponseWriter, r *http.Request, into any) bool {
	if err := json.NewDecoder(http.MaxBytesReader(rw, r.Body, 8<<20)).Decode(into); err != nil {
		refuse(rw, http.StatusBadRequest, "unreadable", "the body is not the JSON expected here: "+err.Error())
		return false
	}
	return true
}

// locked serves one request at a time with the world's lock held, for those who hold the site's key.
func (w *World) locked(site, header, prefix string, next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		key, ok := strings.CutPrefix(r.Header.Get(header), prefix)
		w.mu.Lock()
		defer w.mu.Unlock()
		if !ok || key != w.state.Tokens[site] {
			refuse(rw, http.StatusUnauthorized, "bad_key", "this key is not known here")
			return
		}
		next.ServeHTTP(rw, r)
	})
}

// changed is called with the lock held after anything that nameservers answer by.
func (w *World) changed() {
	w.rebuild()
	w.save()
}
