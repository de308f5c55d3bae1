// Package console serves the web console, which is built into the program: the React application below src, as Vite
// builds it into dist. What it may load and reach is said by a strict Content-Security-Policy: this service, nothing else.
package console

import (
	"bytes"
	"compress/gzip"
	"crypto/rand"
	"embed"
	"fmt"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"
	"sync"
)

//go:embed all:dist
var built embed.FS

// Policy returns the Content-Security-Policy of a page: no script, style, font, picture or connection from elsewhere, no script written
// into the page, no style but those that carry the page's nonce, and no frame around it.
func Policy(nonce string) string {
	return "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-" + nonce + "'; img-src 'self'; font-src 'self'; connect-src 'self'; " +
		"base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
}

// nonceMark is where the page has its nonce, which is another one each time it is served.
const nonceMark = "page-nonce"

// asset is one file, plain and compressed.
type asset struct {
	kind           string
	plain, gzipped []byte
	page           bool // has a nonce, and is never compressed beforehand
}

// Handler serves the console's files; any other path is one of the application's pages. Where the program was built
// without the console, it says so.
func Handler() (http.Handler, error) {
	assets, err := loadBuilt()
	if err != nil {
		return nil, fmt.Errorf("the console that is built in cannot be read: %w", err)
	}
	return handler(assets), nil
}

func handler(assets map[string]asset) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		a, ok := assets[name]
		switch {
		case ok && strings.HasPrefix(name, "assets/"): // their names change with their content
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		case !ok && path.Ext(name) != "" && !strings.Contains(name, "/"), !ok && strings.HasPrefix(name, "assets/"):
			http.Error(w, "There is no such file.", http.StatusNotFound)
			return
		case !ok:
			if a, ok = assets["index.html"]; !ok {
				http.Error(w, "This program was built without its console: run make build. The API is below /api/v1.", http.StatusNotFound)
				return
			}
		}
		h := w.Header()
		h.Set("Content-Type", a.kind)
		nonce := rand.Text()
		h.Set("Content-Security-Policy", Policy(nonce))
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Vary", "Accept-Encoding")
		body := a.plain
		if a.page {
			body = bytes.Replace(body, []byte(nonceMark), []byte(nonce), 1)
			h.Set("Cache-Control", "no-store")
		} else if a.gzipped != nil && strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
			h.Set("Content-Encoding", "gzip")
			body = a.gzipped
		}
		h.Set("Content-Length", fmt.Sprint(len(body)))
		if r.Method != http.MethodHead {
			_, _ = w.Write(body)
		}
	})
}

// loadBuilt loads the files that are built in, once in a process.
var loadBuilt = sync.OnceValues(func() (map[string]asset, error) { return load(built) })

// load reads and compresses all files.
func load(files fs.FS) (map[string]asset, error) {
	assets := map[string]asset{}
	err := fs.WalkDir(files, "dist", func(at string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || entry.Name() == ".gitkeep" {
			return err
		}
		text, err := fs.ReadFile(files, at)
		if err != nil {
			return err
		}
		a := asset{kind: mime.TypeByExtension(path.Ext(at)), plain: text, page: entry.Name() == "index.html"}
		if strings.HasPrefix(a.kind, "text/") || strings.Contains(a.kind, "javascript") || strings.Contains(a.kind, "svg") {
			var small bytes.Buffer
			z, err := gzip.NewWriterLevel(&small, gzip.BestCompression)
			if err != nil {
				return err
			}
			if _, err := z.Write(text); err != nil {
				return err
			}
			if err := z.Close(); err != nil {
				return err
			}
			a.gzipped = small.Bytes()
		}
		assets[strings.TrimPrefix(at, "dist/")] = a
		return nil
	})
	return assets, err
}
