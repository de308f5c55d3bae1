package dynaddr_test

import (
	"net/netip"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dynaddr"
)

func TestParameters(t *testing.T) {
	router := dynaddr.Parameters{V4: "ipaddr", V6: "ip6addr", Prefix: "lan", Ignore: []string{"user", "dualstack"}}
	either := dynaddr.Parameters{V4: "ip", V6: "ip"}
	for query, c := range map[string]struct {
		own   dynaddr.Parameters
		v4    string
		v6    string
		net   string
		wrong string
	}{
		"v4=8.8.8.8&v6=2a00::1":              {v4: "8.8.8.8", v6: "2a00::1"},
		"":                                   {v4: "9.9.9.9"},
		"v4=&v6=":                            {v4: "9.9.9.9"},
		"v4=none":                            {},
		"prefix=2a00:1:2:3::9/56":            {net: "2a00:1:2::/56"},
		"prefix=2a00::/64,2a01::/64":         {net: "2a00::/64"},
		"ipaddr=8.8.8.8&user=x&dualstack=1":  {own: router, v4: "8.8.8.8"},
		"ip6addr=2a00::1&lan=2a00::/56":      {own: router, v6: "2a00::1", net: "2a00::/56"},
		"ip=8.8.8.8":                         {own: either, v4: "8.8.8.8"},
		"ip=2a00::1":                         {own: either, v6: "2a00::1"},
		"ip=8.8.8.8&v4=":                     {own: either, v4: "8.8.8.8"},
		"ipaddr=8.8.8.8":                     {wrong: `"ipaddr" is no parameter of a report; it knows host, v4, v6 and prefix`},
		"address=8.8.8.8":                    {own: router, wrong: `"address" is no parameter of a report; it knows host, v4, v6 and prefix, and here also ip6addr, ipaddr, lan`},
		"v4=8.8.8.8&v4=8.8.4.4":              {wrong: "v4 is given more than once"},
		"v4=8.8.8.8&ipaddr=8.8.4.4":          {own: router, wrong: "v4 is given more than once"},
		"v4=2a00::1":                         {wrong: "report it as v6"},
		"v4=x":                               {wrong: "is no IP address"},
		"prefix=2a00::":                      {wrong: "is no IPv6 prefix"},
		"prefix=2a00::/56&v4=198.51.100.300": {wrong: "is no IP address"},
	} {
		given, err := url.ParseQuery(query)
		require.NoError(t, err)
		var r dynaddr.Report
		said, err := c.own.Read(given)
		if err == nil {
			r, err = said.Report(netip.MustParseAddr("9.9.9.9"))
		}
		if c.wrong != "" {
			assert.ErrorContains(t, err, c.wrong, query)
			continue
		}
		require.NoError(t, err, query)
		assert.Equal(t, c.v4 != "", r.V4.IsValid(), query)
		assert.Equal(t, c.v6 != "", r.V6.IsValid(), query)
		if c.v4 != "" {
			assert.Equal(t, c.v4, r.V4.String(), query)
		}
		if c.net != "" {
			assert.Equal(t, c.net, r.Prefixes[0].String(), query)
		}
	}
	require.NoError(t, router.Check())
	for _, wrong := range []dynaddr.Parameters{{V4: "v6"}, {V4: "a b"}, {Ignore: []string{"host"}}, {V4: "a", Ignore: []string{"a"}}, {V4: "a", Prefix: "a"}, {Ignore: make([]string, 21)}} {
		assert.Error(t, wrong.Check(), "%v", wrong)
	}
}
