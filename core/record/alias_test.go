package record

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"beacon/core/dnsname"
)

var ferries = dnsname.MustParse("saltmarsh-ferries.example")

// at makes a set of the zone.
func at(t require.TestingT, name string, typ Type, ttl uint32, data ...string) Set {
	n, err := dnsname.ParseRelative(name, ferries)
	require.NoError(t, err)
	list := make([]Data, len(data))
	for i, text := range data {
		list[i], err = ParseData(typ, text, ferries)
		require.NoError(t, err)
	}
	return NewSet(n, typ, ttl, list...)
}

func TestResolve(t *testing.T) {
	outside := Followed{Addresses: []netip.Addr{netip.MustParseAddr("203.0.113.5"), netip.MustParseAddr("2001:db8::5")}, TTL: 50}
	known := func(_, target dnsname.Name) (Followed, bool) {
		return outside, target.String() == "web.harbour.example."
	}
	for _, c := range []struct {
		name string
		zone []Set
		want []Set
	}{
		{"no alias", []Set{at(t, "@", A, 60, "192.0.2.1")}, []Set{at(t, "@", A, 60, "192.0.2.1")}},
		{"within the zone", []Set{at(t, "@", ALIAS, 600, "web"), at(t, "web", A, 120, "192.0.2.1", "192.0.2.2"), at(t, "web", AAAA, 90, "2001:db8::1")},
			[]Set{at(t, "@", A, 90, "192.0.2.1", "192.0.2.2"), at(t, "@", AAAA, 90, "2001:db8::1"), at(t, "web", A, 120, "192.0.2.1", "192.0.2.2"), at(t, "web", AAAA, 90, "2001:db8::1")}},
		{"its own TTL is the least", []Set{at(t, "@", ALIAS, 30, "web"), at(t, "web", A, 120, "192.0.2.1")}, []Set{at(t, "@", A, 30, "192.0.2.1"), at(t, "web", A, 120, "192.0.2.1")}},
		{"over a CNAME and an ALIAS", []Set{at(t, "@", ALIAS, 600, "a"), at(t, "a", CNAME, 40, "b"), at(t, "b", ALIAS, 70, "c"), at(t, "c", A, 80, "192.0.2.1")},
			[]Set{at(t, "@", A, 40, "192.0.2.1"), at(t, "a", CNAME, 40, "b"), at(t, "b", A, 70, "192.0.2.1"), at(t, "c", A, 80, "192.0.2.1")}},
		{"outside", []Set{at(t, "@", ALIAS, 600, "web.harbour.example.")}, []Set{at(t, "@", A, 50, "203.0.113.5"), at(t, "@", AAAA, 50, "2001:db8::5")}},
		{"outside over a CNAME", []Set{at(t, "@", ALIAS, 600, "a"), at(t, "a", CNAME, 20, "web.harbour.example.")},
			[]Set{at(t, "@", A, 20, "203.0.113.5"), at(t, "@", AAAA, 20, "2001:db8::5"), at(t, "a", CNAME, 20, "web.harbour.example.")}},
		{"not known", []Set{at(t, "@", ALIAS, 600, "gone.harbour.example."), at(t, "@", MX, 60, "0 .")}, []Set{at(t, "@", MX, 60, "0 .")}},
		{"a circle", []Set{at(t, "a", ALIAS, 600, "b"), at(t, "b", ALIAS, 600, "a")}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := ContentsOf(c.zone...).Resolve(known)
			assert.Equal(t, ContentsOf(c.want...).Records(), got.Records())
			assert.Empty(t, got.Aliases())
		})
	}
}

func TestOutside(t *testing.T) {
	c := ContentsOf(at(t, "@", ALIAS, 60, "web"), at(t, "web", A, 60, "192.0.2.1"), at(t, "x", ALIAS, 60, "y"), at(t, "y", CNAME, 60, "web.harbour.example."))
	assert.True(t, c.Outside(c.Aliases()[0]).IsZero())
	assert.Equal(t, "web.harbour.example.", c.Outside(c.Aliases()[1]).String())
}

// To say what data say already changes nothing, whatever the type; what they are made to say, they say.
func TestSayingIsTheInverseOfSays(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		f := rapid.SampledFrom(forms).Draw(rt, "form")
		d, err := f.Join(generatedData(rt, f), ferries)
		if err != nil {
			rt.Skipf("no record: %v", err)
		}
		says := d.Says(f.Type)
		if target := d.Target(f.Type); !target.IsZero() {
			says = target.String() // a host is said without its final dot, and written with it
		}
		again, err := d.Saying(f.Type, says, ferries)
		require.NoError(rt, err, "%s %s", f.Type, d)
		assert.Equal(rt, d.Says(f.Type), again.Says(f.Type), "%s %s", f.Type, d)
		if f.Type != TXT { // whose strings may be cut elsewhere
			assert.Equal(rt, d, again)
		}
	})
	for _, c := range []struct {
		typ            Type
		was, to, wants string
	}{
		{A, "192.0.2.1", "192.0.2.2", "192.0.2.2"},
		{MX, "10 mx1.post.example.", "mx2.post.example.", "10 mx2.post.example."},
		{MX, "10 mx1.post.example.", "mail", "10 mail.saltmarsh-ferries.example."},
		{SRV, "1 2 3 a.example.", "b.example.", "1 2 3 b.example."},
		{TXT, `"a" "b"`, `say "hi"`, `"say \"hi\""`},
		{CAA, `0 issue "ca.example"`, "other.example", `0 issue "other.example"`},
	} {
		was, err := ParseData(c.typ, c.was, ferries)
		require.NoError(t, err)
		got, err := was.Saying(c.typ, c.to, ferries)
		require.NoError(t, err)
		assert.Equal(t, Data(c.wants), got)
	}
	_, err := Data("192.0.2.1").Saying(A, "web", ferries)
	assert.ErrorContains(t, err, "no IP address")
}
