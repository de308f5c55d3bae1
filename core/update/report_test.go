package update

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/dynaddr"
)

// fleet is three hosts of one uplink: two with its addresses, and one below its prefix.
func fleet(t *testing.T) []Host {
	var at dynaddr.Interface
	require.NoError(t, at.UnmarshalText([]byte("::5")))
	both := dynaddr.Families{V4: true, V6: true}
	now := dynaddr.Addresses{V4: netip.MustParseAddr("198.51.100.7"), V6: netip.MustParseAddr("2001:db8:0:100::7")}
	return []Host{{Name: cam, Follows: both, Now: now}, {Name: gauge, Follows: dynaddr.Families{V4: true}, Now: dynaddr.Addresses{V4: now.V4}},
		{Name: dnsname.MustParse("tide.pier.example"), Follows: dynaddr.Families{V6: true}, Now: dynaddr.Addresses{V6: netip.MustParseAddr("2001:db8:0:102::5")}, Place: &dynaddr.Place{Subnet: 2, Interface: at}}}
}

func TestReportOfAnUpdate(t *testing.T) {
	hosts := fleet(t)
	for text, want := range map[string]string{
		"cam 198.51.100.8":                        "198.51.100.8",
		"cam 198.51.100.8 gauge 198.51.100.8":     "198.51.100.8",
		"cam 198.51.100.8 gauge 198.51.100.9":     "refused: the hosts of an uplink have the same IPv4 address",
		"cam 2001:db8:0:100::8":                   "2001:db8:0:100::8",
		"tide 2001:db8:0:202::5":                  "2001:db8:0:200::/56",
		"tide 2001:db8:0:203::5":                  "refused: 2001:db8:0:203::5 is not the place of tide.pier.example below 2001:db8:0:200::/56",
		"tide 2001:db8:0:202::6":                  "refused: 2001:db8:0:202::6 is not the place of tide.pier.example below 2001:db8:0:200::/56",
		"cam -4":                                  "refused: gauge.pier.example follows the same uplink, and its address is not removed",
		"cam -4 gauge 198.51.100.8":               "refused: one host of an uplink loses its address, and another one gets one",
		"cam -4 gauge -4":                         "gone v4",
		"cam -6":                                  "refused: tide.pier.example follows the same uplink, and its address is not removed",
		"cam -6 tide -6":                          "gone v6",
		"cam 198.51.100.8 tide 2001:db8:0:202::5": "198.51.100.8 2001:db8:0:200::/56",
		"": "",
	} {
		var changes []Change
		f := strings.Fields(text)
		for i := 0; i+1 < len(f); i += 2 {
			c := Change{Host: dnsname.MustParse(f[i] + ".pier.example")}
			switch addr, err := netip.ParseAddr(f[i+1]); {
			case err == nil && addr.Is4():
				c.V4 = addr
			case err == nil:
				c.V6 = addr
			default:
				c.Gone = dynaddr.Families{V4: f[i+1] == "-4", V6: f[i+1] == "-6"}
			}
			changes = append(changes, c)
		}
		r, refused := Report(changes, hosts, 56)
		var got []string
		for _, a := range []netip.Addr{r.V4, r.V6} {
			if a.IsValid() {
				got = append(got, a.String())
			}
		}
		for _, p := range r.Prefixes {
			got = append(got, p.String())
		}
		if r.Gone.V4 {
			got = append(got, "gone v4")
		}
		if r.Gone.V6 {
			got = append(got, "gone v6")
		}
		if refused != "" {
			got = []string{"refused: " + refused}
		}
		assert.Equal(t, want, strings.Join(got, " "), text)
	}
}
