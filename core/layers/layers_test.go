package layers

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"beacon/core/dnsname"
	"beacon/core/dynaddr"
	"beacon/core/record"
)

var (
	zone    = dnsname.MustParse("saltmarsh-ferries.example")
	outside = dnsname.MustParse("outside.tidepool.example")
)

func name(label string) dnsname.Name { return dnsname.MustParse(label + "." + zone.String()) }

// labels are few, so that layers and records meet.
var labels = []string{"cam", "pier", "web", "deck"}

func drawName(rt *rapid.T, what string) dnsname.Name {
	return name(rapid.SampledFrom(labels).Draw(rt, what))
}

func drawAddress(rt *rapid.T, v6 bool) netip.Addr {
	last := rapid.IntRange(1, 9).Draw(rt, "last")
	if v6 {
		return netip.MustParseAddr(fmt.Sprintf("2001:db8::%d", last))
	}
	return netip.MustParseAddr(fmt.Sprintf("192.0.2.%d", last))
}

// drawRevision draws contents in which each name holds addresses, an ALIAS to a name within or outside, or only a text.
func drawRevision(rt *rapid.T) record.Contents {
	var sets []record.Set
	for _, label := range labels {
		n := name(label)
		sets = append(sets, record.NewSet(n, record.TXT, 600, `"beside"`))
		switch rapid.IntRange(0, 4).Draw(rt, label) {
		case 0:
			sets = append(sets, record.NewSet(n, record.A, 300, record.Data(drawAddress(rt, false).String())))
		case 1:
			sets = append(sets, record.NewSet(n, record.AAAA, 900, record.Data(drawAddress(rt, true).String())))
		case 2:
			sets = append(sets, record.NewSet(n, record.ALIAS, 300, record.Data(outside.String())))
		case 3:
			sets = append(sets, record.NewSet(n, record.ALIAS, 300, record.Data(drawName(rt, "leads to").String())))
		}
	}
	return record.ContentsOf(sets...)
}

func drawLayer(rt *rapid.T, revision record.Contents) Layer {
	n := drawName(rt, "layer")
	switch rapid.IntRange(0, 3).Draw(rt, "slot") {
	case 3:
		d := Delegation{Name: n, TTL: 3600}
		if rapid.Bool().Draw(rt, "delegated") {
			glue, _ := n.Child("ns")
			d.Nameservers, d.DS = []dnsname.Name{glue}, []record.Data{"1 13 2 " + record.Data(strings.Repeat("AB", 32))}
			d.Hosts = []Host{{glue, []netip.Addr{drawAddress(rt, false), drawAddress(rt, true)}}}
		}
		return OfChild(d)
	case 0:
		for !revision.Get(record.Key{Name: n, Type: record.ALIAS}).IsZero() { // no host stands where an ALIAS does
			if n = drawName(rt, "host"); len(revision.Aliases()) == len(labels) {
				return Lower(60, record.Key{Name: n, Type: record.TXT})
			}
		}
		var at dynaddr.Addresses
		if rapid.Bool().Draw(rt, "v4") {
			at.V4 = drawAddress(rt, false)
		}
		if rapid.Bool().Draw(rt, "v6") {
			at.V6 = drawAddress(rt, true)
		}
		gone := dynaddr.Families{V4: !at.V4.IsValid() && rapid.Bool().Draw(rt, "no v4"), V6: !at.V6.IsValid() && rapid.Bool().Draw(rt, "no v6")}
		return OfHost(n, 60, at, gone)
	case 1:
		return OfAlias(n, outside, record.Followed{Addresses: []netip.Addr{drawAddress(rt, rapid.Bool().Draw(rt, "family"))}, TTL: 30})
	}
	typ := rapid.SampledFrom([]record.Type{record.A, record.AAAA, record.TXT}).Draw(rt, "type")
	return Lower(rapid.Uint32Range(1, 400).Draw(rt, "ttl"), record.Key{Name: n, Type: typ})
}

// distinct keeps one layer of each slot and name: nobody owns a key twice.
func distinct(list []Layer) []Layer {
	var out []Layer
	for _, l := range list {
		if !slices.ContainsFunc(out, func(o Layer) bool {
			return o.Slot == l.Slot && o.Name == l.Name && (l.Slot != Lowered || slices.Equal(o.Keys, l.Keys))
		}) {
			out = append(out, l)
		}
	}
	return out
}

func keysOf(contents ...record.Contents) map[record.Key]bool {
	keys := map[record.Key]bool{}
	for _, c := range contents {
		for s := range c.Sets() {
			keys[s.Key()] = true
		}
	}
	return keys
}

// leadsTo reports whether an ALIAS at a name leads to another name of the zone, over however many others.
func leadsTo(c record.Contents, from, to dnsname.Name) bool {
	for range labels {
		alias := c.Get(record.Key{Name: from, Type: record.ALIAS})
		if alias.IsZero() {
			return false
		}
		if from = alias.Data[0].Target(record.ALIAS); from == to {
			return true
		}
	}
	return false
}

// Desired = revision + layers: each layer changes what it owns and nothing else, so that taking one away gives what was desired without it.
func TestLawOfLayers(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		revision := drawRevision(rt)
		var list []Layer
		for range rapid.IntRange(1, 6).Draw(rt, "layers") {
			list = append(list, drawLayer(rt, revision))
		}
		list = distinct(list)
		all := Over(revision, list)

		i := rapid.IntRange(0, len(list)-1).Draw(rt, "taken")
		taken, rest := list[i], slices.Delete(slices.Clone(list), i, i+1)
		without := Over(revision, rest)
		for k := range keysOf(all.Contents, without.Contents, revision) {
			mine := slices.Contains(taken.Keys, k) || taken.Slot == Delegated && k.Name.IsAtOrBelow(taken.Name) || leadsTo(revision, k.Name, taken.Name)
			if taken.Slot == Lowered { // an ALIAS within the zone has the TTLs that were below
				mine = slices.Contains(taken.Keys, k)
			}
			if !mine && !all.Contents.Get(k).Equal(without.Contents.Get(k)) {
				rt.Fatalf("%s changes with the layer of %s, which does not own it: %v, without it %v", k, taken.Name, all.Contents.Get(k), without.Contents.Get(k))
			}
			if k.Type != record.ALIAS && !all.Owned[k] && !all.Contents.Get(k).Equal(revision.Get(k)) {
				rt.Fatalf("%s is owned by no layer and is not what the revision says", k)
			}
		}
		shuffled := slices.Clone(list)
		slices.Reverse(shuffled)
		if again := Over(revision, shuffled); !again.Contents.Equal(all.Contents) {
			rt.Fatal("the order in which layers are given matters")
		}
		if len(rest) == 0 && !without.Contents.Equal(Over(revision, nil).Contents) {
			rt.Fatal("something stays of the last layer")
		}
		for k, owned := range without.Owned {
			if owned && !all.Owned[k] {
				rt.Fatalf("%s is owned without a layer, and not with it", k)
			}
		}
	})
}

// An ALIAS that leads to a host without any address left has none either: it does not keep those that the host had.
func TestAliasOfAHostThatIsGone(t *testing.T) {
	alias := record.NewSet(name("web"), record.ALIAS, 300, record.Data(name("pier").String()))
	over := record.NewSet(name("pier"), record.ALIAS, 300, record.Data(name("cam").String()))
	revision := record.ContentsOf(alias, over)
	d := Over(revision, []Layer{OfHost(name("cam"), 60, dynaddr.Addresses{}, dynaddr.Families{V4: true, V6: true})})
	assert.Empty(t, d.Unanswered)
	for _, label := range []string{"cam", "pier", "web"} {
		key := record.Key{Name: name(label), Type: record.A}
		assert.True(t, d.Contents.Get(key).IsZero(), label)
		assert.True(t, d.Owned[key], label)
	}
	stale := record.Followed{Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.7")}, TTL: 60}
	d = Over(revision, []Layer{OfAlias(name("web"), name("cam"), stale), OfHost(name("cam"), 60, dynaddr.Addresses{}, dynaddr.Families{V4: true, V6: true})})
	assert.True(t, d.Contents.Get(record.Key{Name: name("web"), Type: record.A}).IsZero(), "what a resolver still says of the host does not count")
	d = Over(revision, []Layer{OfHost(name("cam"), 60, dynaddr.Addresses{}, dynaddr.Families{})})
	assert.Len(t, d.Unanswered, 2, "a host that never had one says nothing")
}

// An ALIAS that the provider follows by itself stays one, whatever is known of its target.
func TestAliasesThatAreKept(t *testing.T) {
	alias := record.NewSet(zone, record.ALIAS, 300, record.Data(outside.String()))
	inner := record.NewSet(name("www"), record.ALIAS, 300, record.Data(zone.String()))
	revision := record.ContentsOf(alias, inner, record.NewSet(zone, record.MX, 300, "0 ."))
	heard := record.Followed{Addresses: []netip.Addr{netip.MustParseAddr("192.0.2.7")}, TTL: 30}
	d := Over(revision, []Layer{OfAlias(zone, outside, heard), OfAlias(name("www"), outside, heard)}, zone)
	assert.True(t, d.Contents.Get(alias.Key()).Equal(alias))
	assert.True(t, d.Contents.Get(record.Key{Name: zone, Type: record.A}).IsZero())
	assert.Equal(t, []record.Data{"192.0.2.7"}, d.Contents.Get(record.Key{Name: name("www"), Type: record.A}).Data, "it leads over the kept one")
	assert.False(t, d.Owned[record.Key{Name: zone, Type: record.A}], "what the provider follows is not ours to write")
	assert.True(t, d.Owned[record.Key{Name: name("www"), Type: record.A}])

	d = Over(revision, nil, zone)
	assert.Equal(t, []dnsname.Name{zone, name("www")}, d.Unanswered)
	assert.True(t, d.Contents.Get(alias.Key()).Equal(alias))
	assert.Empty(t, d.Owned)
}
