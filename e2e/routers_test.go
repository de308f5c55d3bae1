package e2e

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"time"

	"beacon/wire"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every template of the guide for routers is filled in as a router would, and reports what it is to report.
func TestTemplatesOfRouters(t *testing.T) {
	t.Parallel()
	s := stage(t, options(t, 60, ""))
	a := signedIn(t, s)
	a.define("zones:\n  tides.example:\n    providers: [heron-main]\n    records: |\n      @ A 192.0.2.1\n")
	const host = "gauge.tides.example"
	var added struct{ Token string }
	settings := map[string]any{"name": host, "v4": true, "v6": true, "policy": map[string]any{"hold_down": 0, "allowed_networks": []string{"127.0.0.0/8", "198.51.100.0/24", "2001:db8::/32"}}}
	a.ask("POST", "/hosts", settings, &added)
	var key wire.TSIGKeyAdded
	a.ask("POST", "/tsig-keys", map[string]any{"for": host}, &key)
	text, err := os.ReadFile("../docs/guides/routers.md")
	require.NoError(t, err)
	at, err := url.Parse(s.Address())
	require.NoError(t, err)
	fill := strings.NewReplacer("https://", "http://", "HOST", host, "TOKEN", added.Token, "SERVICE", at.Host, "<ipv4>", "198.51.100.7", "<ipv6>", "2001:db8::7", "<prefix>", "2001:db8:1::/56", "<domain>", host)
	get := func(address string) string {
		res, err := http.Get(address)
		require.NoError(t, err)
		defer res.Body.Close()
		line, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return string(line)
	}
	shapes := map[string]int{}
	for _, m := range regexp.MustCompile("(?s)```([a-z]+)\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		template := strings.TrimSpace(fill.Replace(m[2]))
		shapes[m[1]]++
		a.ask("PUT", "/hosts/"+host, map[string]any{"v4": true, "v6": true, "policy": settings["policy"]}, nil)
		var said string
		switch m[1] {
		case "url":
			said = get(template)
		case "path":
			said = get("http://" + host + ":" + added.Token + "@" + at.Host + template)
		case "own":
			assert.Contains(t, get(template), "is no parameter of a report")
			own := map[string]any{"v4": "myip", "v6": "myip", "ignore": []string{"hostname", "model"}}
			a.ask("PUT", "/hosts/"+host, map[string]any{"v4": true, "v6": true, "policy": settings["policy"], "parameters": own}, nil)
			said = get(template)
		case "nsupdate":
			ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
			client := exec.CommandContext(ctx, "nsupdate", "-y", key.Algorithm+":"+key.Name+":"+key.Secret)
			client.Stdin = strings.NewReader(strings.Replace(template, "UPDATES", strings.Replace(s.Updates(), ":", " ", 1), 1) + "\n")
			out, err := client.CombinedOutput()
			cancel()
			require.NoError(t, err, "%s: %s", template, out)
			said = get("http://" + host + ":" + added.Token + "@" + at.Host + "/api/v1/report?v4=198.51.100.7")
			assert.Regexp(t, "^unchanged", said, "the update was stored")
		case "sh":
			ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
			out, err := exec.CommandContext(ctx, "sh", "-c", template).CombinedOutput()
			cancel()
			require.NoError(t, err, "%s: %s", template, out)
			said = string(out)
		default:
			t.Fatalf("a template of an unknown shape: %s", m[1])
		}
		want := "198.51.100.7"
		if !strings.Contains(m[2], "<ipv4>") && !strings.Contains(m[2], "198.51.100.7") { // the address that it comes from
			want = "127.0.0.1"
		}
		assert.Regexp(t, `^(accepted|unchanged) `+regexp.QuoteMeta(want), said, m[2])
	}
	assert.Equal(t, map[string]int{"url": 4, "path": 1, "own": 1, "sh": 2, "nsupdate": 1}, shapes)
}
