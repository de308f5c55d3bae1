package dynaddr

import (
	"net/netip"
	"testing"
	"time"

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

func at(v4, v6 string) Addresses { return Addresses{addr(v4), addr(v6)} }

var (
	both = Families{V4: true, V6: true}
	demo = []netip.Prefix{netip.MustParsePrefix("198.51.100.0/24")}
	noon = time.Date(2026, 7, 1, 12, 0, 0, 0, time.UTC)
)

func TestTake(t *testing.T) {
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
		"a family not followed": {Families{V4: true}, at("8.8.4.4", ""), at("8.8.8.8", "2a00::1"), nil, Refused, at("8.8.4.4", ""), "follows an IPv6"},
		"good and bad":          {both, at("8.8.4.4", ""), at("8.8.8.8", "fe80::1"), nil, Refused, at("8.8.4.4", ""), "link-local"},
		"nothing":               {both, at("8.8.4.4", ""), at("", ""), nil, Refused, at("8.8.4.4", ""), "no address"},
		"documentation":         {both, at("", ""), at("198.51.100.7", ""), nil, Refused, at("", ""), "documentation"},
		"documentation allowed": {both, at("", ""), at("198.51.100.7", ""), demo, Accepted, at("198.51.100.7", ""), ""},
		"outside the allowance": {both, at("", ""), at("192.0.2.7", ""), demo, Refused, at("", ""), "documentation"},
		"translated":            {both, at("8.8.4.4", "2a00::1"), at("100.64.3.2", "2a00::1"), nil, Accepted, at("", "2a00::1"), ""},
		"shared, and allowed":   {both, at("", ""), at("100.64.3.2", ""), []netip.Prefix{netip.MustParsePrefix("100.64.0.0/10")}, Accepted, at("100.64.3.2", ""), ""},
	} {
		was := Uplink{V4: c.known.V4, V6: c.known.V6}
		got := was.Take(Policy{}, c.follows, Report{Addresses: c.reported, At: noon}, c.allow)
		assert.Equal(t, c.outcome, got.Outcome, name)
		assert.Equal(t, c.now, Addresses{got.Uplink.V4, got.Uplink.V6}, name)
		assert.Contains(t, got.Reason, c.reason, name)
		assert.Equal(t, c.outcome == Refused, got.Reason != "", "%s: a reason is given for a refusal, and only for that", name)
		if c.outcome == Refused {
			assert.Equal(t, was, got.Uplink, "%s: what is refused changes nothing", name)
		} else {
			assert.Equal(t, noon, got.Uplink.Seen, name)
		}
	}
}

func TestTakeUnderAPolicy(t *testing.T) {
	nets := []netip.Prefix{netip.MustParsePrefix("10.20.0.0/16"), netip.MustParsePrefix("2a00:1::/32")}
	peer, token := PeerSource, TokenSource
	prefix := netip.MustParsePrefix("2a00:2:3::/48")
	for name, c := range map[string]struct {
		policy  Policy
		report  Report
		outcome Outcome
		reason  string
	}{
		"within its networks, private":       {Policy{Networks: &nets}, Report{Addresses: at("10.20.1.1", "2a00:1::7")}, Accepted, ""},
		"outside its networks":               {Policy{Networks: &nets}, Report{Addresses: at("8.8.4.4", "")}, Refused, "outside the networks"},
		"from the address that it names":     {Policy{SecondSource: &peer}, Report{Addresses: at("8.8.4.4", ""), Peer: addr("::ffff:8.8.4.4")}, Accepted, ""},
		"from another address":               {Policy{SecondSource: &peer}, Report{Addresses: at("8.8.4.4", ""), Peer: addr("8.8.8.8")}, Refused, "comes from 8.8.8.8"},
		"the family that it comes over":      {Policy{SecondSource: &peer}, Report{Addresses: at("8.8.4.4", "2a00::9"), Peer: addr("2a00::1")}, Refused, "comes from 2a00::1"},
		"the first of two sources":           {Policy{SecondSource: &token}, Report{Addresses: at("8.8.4.4", ""), Source: "a"}, Held, "another source"},
		"a prefix":                           {Policy{}, Report{Prefixes: []netip.Prefix{prefix}}, Accepted, ""},
		"a prefix from outside it":           {Policy{SecondSource: &peer}, Report{Prefixes: []netip.Prefix{prefix}, Peer: addr("2a00:2:4::1")}, Refused, "within it"},
		"a prefix that is an address":        {Policy{}, Report{Prefixes: []netip.Prefix{netip.MustParsePrefix("2a00::1/128")}}, Refused, "16 to 64"},
		"a prefix with bits behind":          {Policy{}, Report{Prefixes: []netip.Prefix{netip.MustParsePrefix("2a00:2:3::1/48")}}, Refused, "bits set"},
		"an IPv4 prefix":                     {Policy{}, Report{Prefixes: []netip.Prefix{netip.MustParsePrefix("8.8.0.0/16")}}, Refused, "no IPv6 prefix"},
		"a private prefix":                   {Policy{}, Report{Prefixes: []netip.Prefix{netip.MustParsePrefix("fd00::/64")}}, Refused, "private"},
		"no address any more, of both":       {Policy{}, Report{Gone: both}, Unchanged, ""},
		"a policy that ends a second source": {Policy{SecondSource: is(NoSource)}.Over(Policy{SecondSource: &token}), Report{Addresses: at("8.8.4.4", ""), Source: "a"}, Accepted, ""},
	} {
		got := Uplink{}.Take(c.policy, both, c.report, nil)
		assert.Equal(t, c.outcome, got.Outcome, "%s: %s", name, got.Reason)
		assert.Contains(t, got.Reason, c.reason, name)
	}
}

// With two sources an address is taken once both name it, in whatever order, and the one of a liar never is.
func TestTwoSources(t *testing.T) {
	token := TokenSource
	u := Uplink{}
	say := func(source, v4 string) Outcome {
		j := u.Take(Policy{SecondSource: &token}, both, Report{Addresses: at(v4, ""), Source: source, At: noon}, nil)
		u = j.Uplink
		return j.Outcome
	}
	assert.Equal(t, Held, say("a", "8.8.4.4"))
	assert.Equal(t, Held, say("a", "8.8.4.4"), "the same source once more is no second one")
	assert.Equal(t, Accepted, say("b", "8.8.4.4"))
	assert.Equal(t, Held, say("b", "9.9.9.9"))
	assert.Equal(t, addr("8.8.4.4"), u.V4)
	assert.Equal(t, Unchanged, say("a", "8.8.4.4"))
	assert.Equal(t, Accepted, say("a", "9.9.9.9"))
	assert.Equal(t, addr("9.9.9.9"), u.V4)
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
func TestTakingTwiceIsTakingOnce(t *testing.T) {
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
		known := Uplink{V4: v4.Draw(t, "known4"), V6: v6.Draw(t, "known6")}
		r := Report{Addresses: Addresses{v4.Draw(t, "reported4"), v6.Draw(t, "reported6")}, Gone: Families{V4: rapid.Bool().Draw(t, "gone4")}, Peer: v4.Draw(t, "peer"), Source: rapid.SampledFrom([]string{"a", "b"}).Draw(t, "source"), At: noon}
		p := Policy{SecondSource: is(rapid.SampledFrom([]Source{NoSource, PeerSource, TokenSource}).Draw(t, "needs"))}
		follows := Families{rapid.Bool().Draw(t, "follows4"), rapid.Bool().Draw(t, "follows6")}
		once := known.Take(p, follows, r, nil)
		if once.Outcome == Refused {
			assert.Equal(t, known, once.Uplink)
		}
		twice := once.Uplink.Take(p, follows, r, nil)
		assert.Equal(t, once.Uplink, twice.Uplink)
		if once.Outcome == Accepted {
			assert.Equal(t, Unchanged, twice.Outcome)
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
