package api

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a proxy says of where a request came from is believed of trusted proxies alone, and of none where two headers differ.
func TestForwarded(t *testing.T) {
	engine := gin.New()
	require.NoError(t, engine.SetTrustedProxies([]string{"127.0.0.0/8", "203.0.113.0/24"}))
	engine.Use(readForwarded)
	engine.GET("/", func(c *gin.Context) { c.String(http.StatusOK, c.ClientIP()) })
	for _, c := range []struct{ from, forwarded, list, single, want string }{
		{"127.0.0.1", `for=192.0.2.60;proto=http;by=203.0.113.43`, "", "", "192.0.2.60"},
		{"127.0.0.1", `For="[2001:db8:cafe::17]:4711"`, "", "", "2001:db8:cafe::17"},
		{"127.0.0.1", `for="192.0.2.43:47011"`, "", "", "192.0.2.43"},
		{"127.0.0.1", `for=192.0.2.43, for=198.51.100.17`, "", "", "198.51.100.17"},
		{"127.0.0.1", `for=192.0.2.43, for=203.0.113.9`, "", "", "192.0.2.43"},
		{"127.0.0.1", `for=192.0.2.43, for=_hidden`, "", "", "127.0.0.1"},
		{"127.0.0.1", `for=192.0.2.43;x="a, for=198.51.100.1"`, "", "", "192.0.2.43"},
		{"127.0.0.1", `for=192.0.2.43;x="a\", for=198.51.100.1"`, "", "", "192.0.2.43"},
		{"127.0.0.1", `for=2001:db8::1`, "", "", "127.0.0.1"},
		{"127.0.0.1", `for=192.0.2.43`, "192.0.2.43", "", "192.0.2.43"},
		{"127.0.0.1", `for=198.51.100.1`, "192.0.2.43", "198.51.100.1", "127.0.0.1"},
		{"127.0.0.1", `nonsense`, "192.0.2.43", "", "127.0.0.1"},
		{"127.0.0.1", ``, "192.0.2.43", "", "192.0.2.43"},
		{"192.0.2.9", `for=198.51.100.1`, "", "", "192.0.2.9"},
	} {
		req := httptest.NewRequest("GET", "/", nil)
		req.RemoteAddr = c.from + ":1234"
		for name, value := range map[string]string{forwardedHeader: c.forwarded, listHeader: c.list, singleHeader: c.single} {
			if value != "" {
				req.Header.Set(name, value)
			}
		}
		rec := httptest.NewRecorder()
		engine.ServeHTTP(rec, req)
		assert.Equal(t, c.want, rec.Body.String(), "%+v", c)
	}
}

func FuzzForwarded(f *testing.F) {
	f.Add(`for=192.0.2.60;proto=http, for="[2001:db8::1]:80"`)
	f.Fuzz(func(t *testing.T, text string) {
		for _, hop := range forwardedFor(text) {
			assert.Equal(t, hop, hopOf(bracketed(hop)), "%q", text)
		}
	})
}

func bracketed(hop string) string {
	for _, c := range hop {
		if c == ':' {
			return "[" + hop + "]"
		}
	}
	return hop
}
