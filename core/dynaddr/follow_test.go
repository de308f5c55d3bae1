package dynaddr

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func n(v uint32) *uint32 { return &v }

// told is a host under a policy that is told of addresses, and of time.
type told struct {
	t     *testing.T
	f     Follows
	lines Uplinks
	host  Host
	now   time.Time
	next  time.Time
}

func (x *told) follow() *told {
	x.t.Helper()
	x.host, x.next = Follow(x.f, x.lines, x.host, x.now, nil)
	again, next := Follow(x.f, x.lines, x.host, x.now, nil)
	assert.Equal(x.t, x.host, again, "following once more at the same moment changes nothing")
	assert.Equal(x.t, x.next, next)
	return x
}

func (x *told) report(uplink int, v4 string) *told {
	x.t.Helper()
	x.lines.List[uplink] = x.lines.List[uplink].Take(x.f.Policy, both, Report{Addresses: at(v4, ""), At: x.now}, nil).Uplink
	return x.follow()
}

// after lets time pass, and follows at each moment that was foreseen.
func (x *told) after(d time.Duration) *told {
	x.t.Helper()
	end := x.now.Add(d)
	for !x.next.IsZero() && !x.next.After(end) {
		assert.True(x.t, x.next.After(x.now), "what is foreseen lies ahead")
		x.now = x.next
		x.follow()
	}
	x.now = end
	return x
}

func (x *told) has(v4 string) *told {
	x.t.Helper()
	assert.Equal(x.t, addr(v4), x.host.V4.Addr, "at %s", x.now.Format(time.TimeOnly))
	return x
}

func telling(t *testing.T, p Policy, uplinks int) *told {
	return &told{t: t, f: Follows{Families: both, Policy: p}, lines: Uplinks{List: make([]Uplink, uplinks), Since: noon}, now: noon}
}

func TestQuickChangesWait(t *testing.T) {
	x := telling(t, Policy{HoldDown: n(30), MaxHoldDown: n(100)}, 1)
	x.report(0, "8.0.0.1").has("8.0.0.1").after(5*time.Second).report(0, "8.0.0.2").has("8.0.0.2")
	x.after(5*time.Second).report(0, "8.0.0.1").has("8.0.0.2")
	assert.Equal(t, IsFlapping, StatusOf(x.f, x.lines, x.host))
	x.after(5*time.Second).report(0, "8.0.0.3").has("8.0.0.2").after(19 * time.Second).has("8.0.0.2")
	x.after(time.Second).has("8.0.0.3") // the newest one, without another report
	x.report(0, "8.0.0.4").after(59 * time.Second).has("8.0.0.3").after(time.Second).has("8.0.0.4")
	x.report(0, "8.0.0.5").after(time.Second).report(0, "8.0.0.4").after(time.Hour).has("8.0.0.4")
	assert.False(t, x.host.V4.Held(), "what came back to where the name is waits for nothing")
	x.report(0, "8.0.0.6").has("8.0.0.6") // forgotten by now
}

// A lease is the silence of the uplink that asked for it (RFC 9664): what is not renewed is removed, unless the policy says what becomes of it.
func TestLeases(t *testing.T) {
	leased := func(x *told, address string, lease uint32) *told {
		x.lines.List[0] = x.lines.List[0].Take(x.f.Policy, both, Report{Addresses: at(address, ""), At: x.now, Lease: lease}, nil).Uplink
		return x.follow()
	}
	x := telling(t, Policy{HoldDown: n(0)}, 1)
	leased(x, "8.0.0.1", 600).after(599 * time.Second).has("8.0.0.1").after(time.Second).has("")
	assert.Equal(t, IsSilent, StatusOf(x.f, x.lines, x.host))
	leased(x, "8.0.0.1", 600).has("8.0.0.1").after(500 * time.Second)
	leased(x, "8.0.0.1", 600).after(500 * time.Second).has("8.0.0.1") // renewed
	leased(x, "8.0.0.1", 0).after(1000 * time.Hour).has("8.0.0.1")    // without a lease it stays

	y := telling(t, Policy{HoldDown: n(0), Silence: n(3600), OnSilence: is(FallbackSilent), FallbackV4: is(addr("9.9.9.9"))}, 1)
	leased(y, "8.0.0.1", 60).has("8.0.0.1").after(time.Minute).has("9.9.9.9")

	two := telling(t, Policy{HoldDown: n(0), Failover: n(7200)}, 2)
	leased(two.report(1, "9.0.0.1"), "8.0.0.1", 600).has("8.0.0.1").after(10 * time.Minute).has("9.0.0.1") // the other one has no lease, and reported
}

func TestLeastInterval(t *testing.T) {
	x := telling(t, Policy{MinInterval: n(600), HoldDown: n(0)}, 1)
	x.report(0, "8.0.0.1").after(time.Minute).report(0, "8.0.0.2").has("8.0.0.1")
	assert.Equal(t, IsHeld, StatusOf(x.f, x.lines, x.host))
	x.after(9*time.Minute - time.Second).has("8.0.0.1").after(time.Second).has("8.0.0.2")
}

func TestTheBestUplinkThatReportsIsFollowed(t *testing.T) {
	x := telling(t, Policy{Failover: n(300), HoldDown: n(0)}, 2)
	x.report(1, "9.0.0.1").has("9.0.0.1").report(0, "8.0.0.1").has("8.0.0.1").report(1, "9.0.0.2").has("8.0.0.1")
	x.after(4*time.Minute).report(1, "9.0.0.3").after(59 * time.Second).has("8.0.0.1").after(time.Second).has("9.0.0.3")
	x.after(time.Hour).has("8.0.0.1") // neither reports: the better one counts
	x.report(1, "9.0.0.3").has("9.0.0.3").report(0, "8.0.0.1").has("8.0.0.1")
	x.lines.List[0] = x.lines.List[0].Take(x.f.Policy, both, Report{Addresses: at("100.64.0.9", ""), At: x.now}, nil).Uplink
	x.follow().has("9.0.0.3") // the better one is behind address translation
}

func TestSilence(t *testing.T) {
	for action, want := range map[Silent]string{KeepSilent: "8.0.0.1", RemoveSilent: "", FallbackSilent: "9.9.9.9"} {
		x := telling(t, Policy{Silence: n(3600), OnSilence: &action, FallbackV4: is(addr("9.9.9.9"))}, 1)
		assert.Equal(t, NeverReported, StatusOf(x.f, x.lines, x.host))
		x.report(0, "8.0.0.1").after(time.Hour - time.Second).has("8.0.0.1")
		assert.Equal(t, IsReporting, StatusOf(x.f, x.lines, x.host))
		x.after(time.Second).has(want)
		assert.Equal(t, IsSilent, StatusOf(x.f, x.lines, x.host))
		x.after(time.Hour).report(0, "8.0.0.1").has("8.0.0.1")
		assert.True(t, x.host.Silent.IsZero())
	}
	never := telling(t, Policy{Silence: n(3600), OnSilence: is(RemoveSilent)}, 1)
	never.follow().after(2 * time.Hour).has("")
	assert.Equal(t, noon.Add(time.Hour), never.host.Silent, "a host that never reported is silent too")
}

func TestPlaceBelowAPrefix(t *testing.T) {
	var iface Interface
	for _, wrong := range []string{"", "7", "::", "1::7", "::7%eth0", "8.8.4.4", "::1:2:3:4:5"} {
		assert.Error(t, iface.UnmarshalText([]byte(wrong)), wrong)
	}
	assert.NoError(t, iface.UnmarshalText([]byte("::7")))
	assert.Equal(t, "::7", iface.String())
	for _, c := range []struct {
		prefix string
		subnet uint16
		want   string
	}{
		{"2a00:1:2:3::/64", 0, "2a00:1:2:3::7"}, {"2a00:1:2:3::/64", 1, ""}, {"2a00:1:2:300::/56", 0xab, "2a00:1:2:3ab::7"}, {"2a00:1:2:300::/56", 0x100, ""},
		{"2a00:1:2::/48", 0xffff, "2a00:1:2:ffff::7"}, {"2a00:1:2:30::/60", 15, "2a00:1:2:3f::7"}, {"2a00::/32", 0x12, "2a00:0:0:12::7"},
	} {
		assert.Equal(t, addr(c.want), Place{c.subnet, iface}.At(netip.MustParsePrefix(c.prefix)), "%s, %x", c.prefix, c.subnet)
	}
	f := Follows{Families: both, Place: &Place{Subnet: 2, Interface: iface}}
	u := Uplink{Prefixes: []netip.Prefix{netip.MustParsePrefix("2a00:1:2:300::/56"), netip.MustParsePrefix("2a00:9::/56")}}
	h, _ := Follow(f, Uplinks{List: []Uplink{u}}, Host{}, noon, nil)
	assert.Equal(t, addr("2a00:1:2:302::7"), h.V6.Addr)
	f.Place.Subnet = 0
	h, _ = Follow(f, Uplinks{List: []Uplink{{V6: addr("2a00:5:6:7:8:9:a:b")}}}, Host{}, noon, nil)
	assert.Equal(t, addr("2a00:5:6:7::7"), h.V6.Addr, "an address of the same network serves as well")
}

func TestAnswer(t *testing.T) {
	a, b := Host{V4: Followed{Addr: addr("8.0.0.1")}}, Host{V4: Followed{Addr: addr("8.0.0.2")}}
	held := Host{V4: Followed{Addr: addr("8.0.0.1"), Waiting: addr("8.0.0.2"), Until: noon}}
	translated := Uplink{Translated: addr("100.64.0.1")}
	for name, c := range map[string]struct {
		j     Judged
		r     Report
		hosts []Change
		want  Decision
	}{
		"one of two moves":     {Judged{Outcome: Accepted}, Report{}, []Change{{a, a}, {a, b}}, Decision{Outcome: Accepted, Now: b.Now()}},
		"nothing moves":        {Judged{Outcome: Accepted}, Report{}, []Change{{a, a}}, Decision{Outcome: Unchanged, Now: a.Now()}},
		"it waits":             {Judged{Outcome: Accepted}, Report{}, []Change{{a, held}}, Decision{Outcome: Held, Now: a.Now(), Until: noon, Reason: "the address changes too often; the newest one is taken later"}},
		"refused":              {Judged{Outcome: Refused, Reason: "why"}, Report{}, []Change{{a, a}}, Decision{Outcome: Refused, Reason: "why", Now: a.Now()}},
		"no host yet":          {Judged{Outcome: Accepted, Uplink: Uplink{V4: addr("8.0.0.9")}}, Report{}, nil, Decision{Outcome: Accepted, Now: at("8.0.0.9", "")}},
		"behind a translation": {Judged{Outcome: Unchanged, Uplink: translated}, Report{Addresses: at("100.64.0.1", "")}, []Change{{Host{}, Host{}}}, Decision{Outcome: Unreachable, Reason: "100.64.0.1 is behind the provider's address translation: nobody reaches it over IPv4; report an IPv6 address"}},
	} {
		assert.Equal(t, c.want, Answer(c.j, c.r, c.hosts), name)
	}
}
