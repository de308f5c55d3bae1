package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/wire"
)

func TestLocations(t *testing.T) {
	at := time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)
	rules := dynaddr.Default()
	cam := wire.HostView{Name: dnsname.MustParse("cam.pier.example"), Zone: dnsname.MustParse("pier.example"), Location: "pier", Status: dynaddr.IsHeld, Rules: rules, TTL: 60, Follows: dynaddr.Families{V4: true},
		Waiting: "192.0.2.9", Until: &at}
	pier := wire.LocationView{Name: "pier", Rules: rules, Hosts: []wire.HostView{cam}, Uplinks: []wire.UplinkView{{Name: "fibre", V4: "192.0.2.7", SeenAt: &at, SeenFrom: "192.0.2.7", Reports: true},
		{Name: "lte", Translated: "100.64.0.9", SeenAt: &at, Reports: true, Refused: "10.0.0.1 is private", Parameters: dynaddr.Parameters{V4: "ip", Ignore: []string{"user"}}}}}
	s := &answers{replies: map[string]any{
		"GET /locations": wire.Page[wire.LocationView]{Items: []wire.LocationView{pier}}, "GET /locations/pier": pier, "PUT /locations/pier": pier, "PUT /locations/pier/uplinks/lte": pier,
		"POST /locations": wire.LocationAdded{Name: "pier", Tokens: []wire.UplinkToken{{Uplink: "fibre", Token: "one"}, {Uplink: "lte", Token: "two"}}}, "DELETE /locations/pier": nil,
		"POST /locations/pier/uplinks": wire.UplinkToken{Uplink: "dsl", Token: "three"}, "DELETE /locations/pier/uplinks/lte": nil,
		"GET /hosts/cam.pier.example": cam, "PUT /hosts/cam.pier.example": cam, "GET /clock": wire.ClockNow{World: at}, "POST /hosts": wire.HostAdded{Name: cam.Name, Location: "pier"},
	}}
	for _, c := range []struct {
		args []string
		says []string
	}{
		{[]string{"location", "list"}, []string{"fibre reporting, lte refused", "cam.pier.example"}},
		{[]string{"location", "show", "pier"}, []string{"100.64.0.9 (behind the provider's address translation)", "refused: 10.0.0.1 is private", "v4 is called ip; ignored: user", "all public addresses (inherited)"}},
		{[]string{"location", "add", "pier", "--uplink", "fibre", "--uplink", "lte", "--silence", "2h"}, []string{"uplink lte: its token, shown this once: two", "--location pier"}},
		{[]string{"location", "set", "pier", "--uplinks", "lte,fibre", "--uplink", "lte", "--ignore", "model"}, []string{"UPLINK"}},
		{[]string{"location", "add-uplink", "pier", "dsl"}, []string{"three"}},
		{[]string{"location", "remove-uplink", "pier", "lte", "--yes"}, []string{"revoked its token"}},
		{[]string{"location", "remove", "pier", "--yes"}, []string{"Removed location pier"}},
		{[]string{"host", "add", "cam.pier.example", "--location", "pier", "--interface", "::a:1", "--subnet", "0x1f"}, []string{"follows location pier now"}},
		{[]string{"host", "show", "cam.pier.example"}, []string{"held: 192.0.2.9 is taken at"}},
		{[]string{"host", "set", "cam.pier.example", "--hold-down", "0s", "--on-silence", "fallback", "--fallback-v4", "192.0.2.1", "--allowed-network", "public"}, []string{"at location pier"}},
	} {
		out, errOut, code := beacon(t, s, c.args...)
		assert.Zero(t, code, "%v: %s", c.args, errOut)
		for _, part := range c.says {
			assert.Contains(t, out, part, "%v", c.args)
		}
	}
	sent := strings.Join(s.sent, "\n")
	for _, part := range []string{`"policy":{"silence":7200}`, `"uplinks":["lte","fibre"]`, `"ignore":["user","model"]`, `"below":{"subnet":31,"interface":"::a:1"}`,
		`"allowed_networks":[],"hold_down":0,"on_silence":"fallback","fallback_v4":"192.0.2.1"`} {
		assert.Contains(t, sent, part)
	}
	for _, args := range [][]string{
		{"host", "add", "a.example", "--subnet", "3"}, {"host", "add", "a.example", "--interface", "2001:db8::1"}, {"host", "add", "a.example", "--v4-only", "--v6-only"},
		{"host", "set", "cam.pier.example", "--inherit", "ttl"}, {"host", "set", "cam.pier.example", "--silence", "1s"}, {"host", "set", "cam.pier.example", "--second-source", "moon"},
		{"host", "set", "cam.pier.example", "--parameter", "ip"}, {"location", "set", "pier", "--ignore", "x"}, {"location", "remove", "pier"},
	} {
		_, _, code := beacon(t, s, args...)
		assert.Equal(t, ExitMisuse, code, "%v", args)
	}
}

// A file that may hold a token which is in use is left as it is.
func TestTokenFilesStay(t *testing.T) {
	folder := t.TempDir()
	s := &answers{replies: map[string]any{"POST /hosts": wire.HostAdded{Name: dnsname.MustParse("cam.pier.example"), Token: "new"},
		"POST /locations": wire.LocationAdded{Name: "pier", Tokens: []wire.UplinkToken{{Uplink: "main", Token: "new"}}}}}
	file := filepath.Join(folder, "pier-main.token")
	require.NoError(t, os.WriteFile(file, []byte("old\n"), 0o600))
	_, errOut, code := beacon(t, s, "host", "add", "cam.pier.example", "--token-file", file)
	assert.Equal(t, ExitMisuse, code)
	assert.Contains(t, errOut, "is there already")
	assert.Empty(t, s.sent, "nothing was asked for")
	_, errOut, code = beacon(t, s, "location", "add", "pier", "--token-folder", folder)
	assert.Equal(t, ExitFailed, code)
	assert.Contains(t, strings.Join(strings.Fields(errOut), " "), "beacon token renew pier/main")
	kept, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "old\n", string(kept))
}
