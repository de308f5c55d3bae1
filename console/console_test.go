package console

import (
	"compress/gzip"
	"io"
	"net/http/httptest"
	"path"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func get(t *testing.T, path string, headers ...string) *httptest.ResponseRecorder {
	t.Helper()
	h, err := Handler()
	require.NoError(t, err)
	req := httptest.NewRequest("GET", path, nil)
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	rec := httptest.NewRecorder()
	h.ServeHTTP(rec, req)
	return rec
}

func TestPages(t *testing.T) {
	for _, at := range []string{"/", "/sign-in", "/domains/saltmarsh-ferries.example", "/hosts/pier-cam.saltmarsh-ferries.example", "/../../etc/passwd"} {
		rec := get(t, at)
		assert.Equal(t, 200, rec.Code, at)
		assert.Equal(t, "text/html; charset=utf-8", rec.Header().Get("Content-Type"), at)
		nonce := regexp.MustCompile(`<meta name="nonce" content="([A-Z0-9]{26})"`).FindStringSubmatch(rec.Body.String())
		require.Len(t, nonce, 2, at)
		assert.Equal(t, Policy(nonce[1]), rec.Header().Get("Content-Security-Policy"), at)
		assert.NotContains(t, get(t, at).Body.String(), nonce[1], "each page has its own")
		assert.Contains(t, rec.Body.String(), `<div id="root">`)
	}
	for _, at := range []string{"/assets/none.js", "/favicon.ico"} {
		assert.Equal(t, 404, get(t, at).Code, at)
	}
}

// Nothing is written into the page, and nothing is asked of anywhere else.
func TestPolicyIsStrict(t *testing.T) {
	for _, loose := range []string{"unsafe", "*", "data:", "blob:", "http", "sha256"} {
		assert.NotContains(t, Policy("NONCE"), loose)
	}
	assert.Contains(t, Policy("NONCE"), "script-src 'self';", "no script carries a nonce")
	page := get(t, "/").Body.String()
	assert.NotRegexp(t, `<script(>|[^>]*>[^<])|<style|\son\w+=|style=|https?://`, page)
}

func TestAssetsAreCompressedAndKept(t *testing.T) {
	name := entry(t)
	plain, small := get(t, name), get(t, name, "Accept-Encoding", "gzip, br")
	assert.Contains(t, plain.Header().Get("Cache-Control"), "immutable")
	assert.Equal(t, "gzip", small.Header().Get("Content-Encoding"))
	z, err := gzip.NewReader(small.Body)
	require.NoError(t, err)
	text, err := io.ReadAll(z)
	require.NoError(t, err)
	assert.Equal(t, plain.Body.String(), string(text))
}

func entry(t *testing.T) string {
	found := regexp.MustCompile(`src="(/assets/[^"]+\.js)"`).FindStringSubmatch(get(t, "/").Body.String())
	require.Len(t, found, 2, "the console is built by make console")
	return found[1]
}

// What has to be loaded before the first page can be used: the entry, everything that it imports, and the sign-in or
// the domains, whichever is larger.
func TestScriptIsSmall(t *testing.T) {
	assets, err := load(built)
	require.NoError(t, err)
	imports := regexp.MustCompile(`(?:from|import)\s*"(\./[^"]+\.js)"`)
	seen := map[string]int{}
	var take func(string)
	take = func(name string) {
		if _, known := seen[name]; known {
			return
		}
		rec := get(t, name, "Accept-Encoding", "gzip")
		require.Equal(t, 200, rec.Code, name)
		seen[name] = rec.Body.Len()
		for _, m := range imports.FindAllStringSubmatch(get(t, name).Body.String(), -1) {
			take(path.Join("/assets", m[1]))
		}
	}
	take(entry(t))
	for name := range assets {
		if strings.HasPrefix(name, "assets/sign-in-") {
			take("/" + name)
		}
	}
	total := 0
	for _, size := range seen {
		total += size
	}
	t.Logf("%d kB gzip in %d files", total/1000, len(seen))
	assert.Less(t, total, 160_000)
}
