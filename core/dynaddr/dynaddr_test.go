package dynaddr

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"beacon/core/dnsname"
)

func addr(text string) netip.Addr {
	a, _ := netip.ParseAddr(text)
	return a
}

func TestRead(t *testing.T) {
	for _, c := range []struct{ v4, v6, peer, want4, want6, wrong string }{
		{"", "", "8.8.4.4", "8.8.4.4", "", ""},
		{"", "", "2a00::1", "", "2a00::1", ""},
		{"", "", "::ffff:8.8.4.4", "8.8.4.4", "", ""},
		{"", "", "fe80::1%eth0", "", "fe80::1", ""},
		{"8.8.4.4", "", "9.9.9.9", "8.8.4.4", "", ""},
		{"8.8.4.4", "2a00::1", "9.9.9.9", "8.8.4.4", "2a00::1", ""},
		{"8.8.4", "", "9.9.9.9", "", "", `v4: "8.8.4" is no IP address`},
		{"2a00::1", "", "9.9.9.9", "", "", "report it as v6"},
		{"", "8.8.4.4", "9.9.9.9", "", "", "report it as v4"},
		{"", "fe80::1%eth0", "9.9.9.9", "", "", "on one machine only"},
		{"8.8.4.4", "x", "9.9.9.9", "", "", `v6: "x" is no IP address`},
	} {
		got, err := Read(c.v4, c.v6, addr(c.peer))
		if c.wrong != "" {
			assert.ErrorContains(t, err, c.wrong)
			assert.Equal(t, Addresses{}, got, "a faulty report says nothing")
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, Addresses{addr(c.want4), addr(c.want6)}, got)
	}
}

func TestJudge(t *testing.T) {
	both := Families{true, true}
	demo := []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24")}
	at := func(v4, v6 string) Addresses { return Addresses{addr(v4), addr(v6)} }
	for name, c := range map[string]struct {
		follows  Families
		known    Addresses
		reported Addresses
		allow    []netip.Prefix
		outcome  Outcome
		now      Addresses
		reason   string
	}{
		"the first":             {both, at("", ""), at("8.8.4.4", ""), nil, Accepted, at("8.8.4.4", ""), ""},
		"the same":              {both, at("8.8.4.4", ""), at("8.8.4.4", ""), nil, Unchanged, at("8.8.4.4", ""), ""},
		"one family of two":     {both, at("8.8.4.4", "2a00::1"), at("", "2a00::2"), nil, Accepted, at("8.8.4.4", "2a00::2"), ""},
		"same in one family":    {both, at("8.8.4.4", "2a00::1"), at("8.8.4.4", ""), nil, Unchanged, at("8.8.4.4", "2a00::1"), ""},
		"a family not followed": {Families{V4: true}, at("8.8.4.4", ""), at("8.8.8.8", "2a00::1"), nil, Refused, at("8.8.4.4", ""), "follows no IPv6"},
		"good and bad":          {both, at("8.8.4.4", ""), at("8.8.8.8", "fe80::1"), nil, Refused, at("8.8.4.4", ""), "link-local"},
		"nothing":               {both, at("8.8.4.4", ""), at("", ""), nil, Refused, at("8.8.4.4", ""), "no address"},
		"documentation":         {both, at("", ""), at("198.51.100.7", ""), nil, Refused, at("", ""), "documentation"},
		"documentation allowed": {both, at("", ""), at("198.51.100.7", ""), demo, Accepted, at("198.51.100.7", ""), ""},
		"outside the allowance": {both, at("", ""), at("192.0.2.7", ""), demo, Refused, at("", ""), "documentation"},
	} {
		got := Judge(c.follows, c.known, c.reported, c.allow)
		assert.Equal(t, c.outcome, got.Outcome, name)
		assert.Equal(t, c.now, got.Now, name)
		assert.Contains(t, got.Reason, c.reason, name)
		assert.Equal(t, c.outcome == Refused, got.Reason != "", "%s: a reason is given for a refusal, and only for that", name)
	}
}

func TestWhatNobodyCouldReach(t *testing.T) {
	for _, text := range []string{"0.0.0.0", "10.1.2.3", "172.31.0.1", "192.168.1.1", "100.64.0.1", "127.0.0.1", "169.254.1.1", "192.0.0.1", "192.0.2.1",
		"203.0.113.9", "198.19.0.1", "224.0.0.1", "255.255.255.255", "::", "::1", "::ffff:8.8.4.4", "64:ff9b::808:808", "2001:db8::1", "3fff::1",
		"fd00::1", "fe80::1", "ff02::1", "4000::1"} {
		assert.NotEmpty(t, Unbelievable(addr(text), nil), text)
	}
	for _, text := range []string{"8.8.4.4", "172.32.0.1", "100.128.0.1", "192.0.3.1", "2a00::1", "2606::1"} {
		assert.Empty(t, Unbelievable(addr(text), nil), text)
	}
}

// Whatever is reported: afterwards the same report changes nothing, and what is refused changes nothing either.
func TestJudgingTwiceIsJudgingOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v4 := rapid.Custom(func(t *rapid.T) netip.Addr {
			if rapid.Bool().Draw(t, "none") {
				return netip.Addr{}
			}
			return netip.AddrFrom4([4]byte(rapid.SliceOfN(rapid.Byte(), 4, 4).Draw(t, "v4")))
		})
		v6 := rapid.Custom(func(t *rapid.T) netip.Addr {
			if rapid.Bool().Draw(t, "none") {
				return netip.Addr{}
			}
			return netip.AddrFrom16([16]byte(rapid.SliceOfN(rapid.Byte(), 16, 16).Draw(t, "v6")))
		})
		known := Addresses{v4.Draw(t, "known4"), v6.Draw(t, "known6")}
		reported := Addresses{v4.Draw(t, "reported4"), v6.Draw(t, "reported6")}
		follows := Families{rapid.Bool().Draw(t, "follows4"), rapid.Bool().Draw(t, "follows6")}
		d := Judge(follows, known, reported, nil)
		if d.Outcome != Accepted {
			assert.Equal(t, known, d.Now)
		}
		if d.Outcome == Accepted {
			assert.Equal(t, Unchanged, Judge(follows, d.Now, reported, nil).Outcome)
		}
	})
}

func TestSets(t *testing.T) {
	host := dnsname.MustParse("pier-cam.saltmarsh-ferries.example")
	sets := Sets(host, 60, Addresses{addr("198.51.100.77"), addr("2001:db8::7")})
	require.Len(t, sets, 2)
	assert.Equal(t, "pier-cam.saltmarsh-ferries.example. A 60 198.51.100.77", sets[0].String())
	assert.Equal(t, "pier-cam.saltmarsh-ferries.example. AAAA 60 2001:db8::7", sets[1].String())
	assert.Empty(t, Sets(host, 60, Addresses{}))
}
