package special

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// Each range of the registries at its first and last address, and what is beside it.
func TestRanges(t *testing.T) {
	for _, r := range Ranges {
		assert.NotEmpty(t, Why(r.Net.Addr()), r.Net)
		assert.NotEmpty(t, Why(last(r.Net)), r.Net)
		assert.True(t, Within(r.Net), r.Net)
	}
	for _, p := range Except {
		assert.Empty(t, Why(p.Addr()), p)
		assert.Empty(t, Why(last(p)), p)
	}
	for _, text := range []string{"192.31.196.1", "192.52.193.1", "192.175.48.6", "2620:4f:8000::1", "64:ff9b::c0af:3006", "::ffff:192.175.48.6"} { // special, and reachable from everywhere
		assert.Empty(t, Why(netip.MustParseAddr(text)), text)
	}
	for _, text := range []string{"64:ff9b::a00:1", "64:ff9b::7f00:1", "::ffff:10.0.0.1", "::10.0.0.1", "fe80::1%eth0", "2002:a00:1::1", "2001:0:a00:1::", "4000::1", "e000::1", "::2"} {
		assert.NotEmpty(t, Why(netip.MustParseAddr(text)), text)
	}
	assert.NotEmpty(t, Why(netip.Addr{}))
}

func last(p netip.Prefix) netip.Addr {
	b := p.Masked().Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	addr, _ := netip.AddrFromSlice(b)
	return addr
}

// What is within has no address that is reachable from everywhere, but for the exceptions.
func TestWithin(t *testing.T) {
	for text, want := range map[string]bool{"10.1.0.0/16": true, "10.0.0.0/7": false, "0.0.0.0/0": false, "::/0": false, "192.0.0.0/16": false, "127.0.0.0/8": true, "fd00::/8": true, "8000::/1": true,
		"2000::/3": false, "64:ff9b::/96": false, "::/3": false, "4000::/3": true} {
		assert.Equal(t, want, Within(netip.MustParsePrefix(text)), text)
	}
	rapid.Check(t, func(rt *rapid.T) {
		b := rapid.SliceOfN(rapid.Byte(), 16, 16).Draw(rt, "address")
		addr := netip.AddrFrom16([16]byte(b))
		if rapid.Bool().Draw(rt, "v4") {
			addr = netip.AddrFrom4([4]byte(b[:4]))
		}
		p := netip.PrefixFrom(addr, rapid.IntRange(0, addr.BitLen()).Draw(rt, "bits"))
		if !Within(p) {
			return
		}
		for _, a := range []netip.Addr{p.Masked().Addr(), last(p)} {
			excepted := false
			for _, e := range Except {
				excepted = excepted || e.Contains(a)
			}
			assert.True(rt, excepted || Why(a) != "", "%s of %s", a, p)
		}
	})
}
