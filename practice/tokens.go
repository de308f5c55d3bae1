package practice

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"
)

// tokens are the keys of each site, with what their holders may do.
var tokens = map[string]map[string][]string{
	"heron": {"heron-practice-key": {"view", "edit", "zones"}, "heron-viewer-key": {"view"}, "heron-editor-key": {"view", "edit"},
		"heron-owner-key": {"view", "edit", "zones", "keys"}, "heron-second-key": {"view", "edit", "zones"}},
	"plover": {"plover-practice-key": {"view", "edit", "zones"}, "plover-viewer-key": {"view"}},
	"curlew": {"desk:curlew-practice-key": {"view", "edit", "zones"}, "mate:curlew-viewer-key": {"view"}},
	"gannet": {"gannet-practice-key": {"view", "edit", "zones"}},
	"skua":   {"skua-practice-key": {"view", "edit", "zones"}},

	"whimbrel": {"desk:whimbrel-practice-secret": {"view", "edit", "zones"}},
	"lapwing":  {"desk:lapwing-practice-secret": {"view", "edit", "zones"}},
}

// rightFor is what a request needs: making and removing zones is more than changing what is in them.
func rightFor(r *http.Request) string {
	last := r.URL.Path[strings.LastIndexByte(r.URL.Path, '/')+1:]
	switch {
	case r.Method == http.MethodGet:
		return "view"
	case r.Method == http.MethodDelete && last != "file" && strings.Count(r.URL.Path, "/") < 5, r.Method == http.MethodPost && last == "zones",
		r.Method == http.MethodPut && strings.Count(r.URL.Path, "/") == 3 && strings.HasPrefix(r.URL.Path, "/dns/zones/"):
		return "zones"
	}
	return "edit"
}

// keyFinder takes the key out of a request; false where there is none that could be right.
type keyFinder func(r *http.Request) (key string, ok bool)

func keyInHeader(header, prefix string) keyFinder {
	return func(r *http.Request) (string, bool) { return strings.CutPrefix(r.Header.Get(header), prefix) }
}

// keySigned takes a signature over method, address, time and body; the key itself does not travel.
func keySigned(site string) keyFinder {
	return func(r *http.Request) (string, bool) {
		id, signature, ok := strings.Cut(r.Header.Get("Curlew-Auth"), " ")
		at, err := time.Parse(time.RFC3339, r.Header.Get("Curlew-Date"))
		if !ok || err != nil || time.Since(at).Abs() > 5*time.Minute {
			return "", false
		}
		body, err := io.ReadAll(io.LimitReader(r.Body, 8<<20))
		if err != nil {
			return "", false
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		sum := sha256.Sum256(body)
		for key := range tokens[site] {
			name, secret, _ := strings.Cut(key, ":")
			mac := hmac.New(sha256.New, []byte(secret))
			mac.Write([]byte(strings.Join([]string{r.Method, r.URL.RequestURI(), r.Header.Get("Curlew-Date"), hex.EncodeToString(sum[:])}, "\n")))
			if name == id && hmac.Equal([]byte(hex.EncodeToString(mac.Sum(nil))), []byte(signature)) {
				return key, true
			}
		}
		return "", false
	}
}

// locked serves one request at a time with the world's lock held, for those who hold a key of the site's.
func (w *World) locked(site string, find keyFinder, next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		key, ok := find(r)
		rights, known := tokens[site][key]
		refuse := refuse
		if site == "lapwing" {
			refuse = refuseXML
		}
		w.mu.Lock()
		defer w.mu.Unlock()
		switch {
		case !ok || !known:
			refuse(rw, http.StatusUnauthorized, "bad_key", "this key is not known here")
		case !slices.Contains(rights, rightFor(r)):
			refuse(rw, http.StatusForbidden, "not_allowed", "this key may not do that: it may "+strings.Join(rights, ", "))
		case strings.HasSuffix(r.URL.Path, "/whoami"):
			answer(rw, http.StatusOK, map[string]any{"may": rights})
		default:
			next.ServeHTTP(rw, r)
		}
	})
}
