package diff

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
)

// Each guard with what it must speak at, and what it must not.
func TestGuards(t *testing.T) {
	pattern, err := record.ParsePattern("www *", apex)
	require.NoError(t, err)
	pier := dnsname.MustParse("pier.saltmarsh-ferries.example")
	at := func(name dnsname.Name, typ record.Type, data ...record.Data) record.Set {
		return record.NewSet(name, typ, 300, data...)
	}
	spf, other := at(apex, record.TXT, `"v=spf1 mx -all"`, `"x"`), at(apex, record.TXT, `"x"`)
	address, six, text := at(pier, record.A, "192.0.2.1"), at(pier, record.AAAA, "2001:db8::1"), at(pier, record.TXT, `"x"`)
	web := at(www, record.A, "192.0.2.2")
	authority := at(apex, record.SOA, "a. b. 0 1 1 9 9")
	mx := at(apex, record.MX, "10 mx.")
	for _, c := range []struct {
		name   string
		live   []record.Set
		list   change.List
		codes  []string
		spared []string // guards that must not speak
	}{
		{"a name that stops", []record.Set{address}, change.List{{Before: address}}, []string{GuardHost}, []string{GuardNamesStop}},
		{"a host that keeps its other address", []record.Set{address, six}, change.List{{Before: address}}, nil, []string{GuardHost, GuardNamesStop}},
		{"a host that keeps a text only", []record.Set{address, text}, change.List{{Before: address}}, []string{GuardHost}, []string{GuardNamesStop}},
		{"a host whose address changes", []record.Set{address}, change.List{{Before: address, After: at(pier, record.A, "192.0.2.9")}}, nil, []string{GuardHost}},
		{"protected, and stops", []record.Set{web}, change.List{{Before: web}}, []string{GuardNamesStop, GuardProtected}, nil},
		{"protected, and changed", []record.Set{web}, change.List{{Before: web, After: at(www, record.A, "192.0.2.3")}}, nil, []string{GuardProtected}},
		{"mail hosts go", []record.Set{mx, other}, change.List{{Before: mx}}, []string{GuardMail}, []string{GuardNamesStop}},
		{"mail hosts change", []record.Set{mx}, change.List{{Before: mx, After: at(apex, record.MX, "10 mx2.")}}, nil, []string{GuardMail}},
		{"SPF goes out of a set", []record.Set{spf}, change.List{{Before: spf, After: other}}, []string{GuardMail}, nil},
		{"SPF stays in a set", []record.Set{spf}, change.List{{Before: spf, After: at(apex, record.TXT, `"v=spf1 -all"`)}}, nil, []string{GuardMail}},
		{"apex nameservers change", []record.Set{at(apex, record.NS, "a.")}, change.List{{Before: at(apex, record.NS, "a."), After: at(apex, record.NS, "b.")}}, []string{GuardApex}, nil},
		{"fields of the SOA record change", []record.Set{authority}, change.List{{Before: authority, After: at(apex, record.SOA, "a. b. 0 1 1 9 5")}}, nil, []string{GuardApex}},
		{"the SOA record goes", []record.Set{authority}, change.List{{Before: authority}}, []string{GuardApex}, nil},
		{"the apex stops but for its SOA record", []record.Set{authority, at(apex, record.A, "192.0.2.1")}, change.List{{Before: at(apex, record.A, "192.0.2.1")}}, []string{GuardNamesStop}, nil},
		{"a delegation below changes", []record.Set{at(pier, record.NS, "a.")}, change.List{{Before: at(pier, record.NS, "a."), After: at(pier, record.NS, "b.")}}, nil, []string{GuardApex}},
		{"an ALIAS that nobody answers for takes an address's place", []record.Set{web, text}, change.List{{Before: web}, {After: at(www, record.ALIAS, "nowhere.example.")}}, []string{GuardAlias, GuardProtected}, []string{GuardNamesStop}},
		{"an ALIAS that is answered for", []record.Set{address}, change.List{{Before: address}, {After: at(pier, record.ALIAS, "web.example.")}}, []string{GuardHost}, []string{GuardAlias}},
		{"an ALIAS where no address was", []record.Set{text}, change.List{{After: at(www, record.ALIAS, "nowhere.example.")}}, nil, []string{GuardAlias}},
		{"something new", nil, change.List{{After: web}, {After: mx}, {After: spf}}, nil, []string{GuardNamesStop, GuardMail, GuardProtected}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var codes []string
			for _, f := range Guards(c.list, record.ContentsOf(c.live...), Watched{Zone: apex, Protect: []record.Pattern{pattern}, Hosts: []dnsname.Name{pier}, Unanswered: []dnsname.Name{www}}) {
				codes = append(codes, f.Code)
				assert.Contains(t, f.Remedy, "--allow "+f.Code)
			}
			assert.ElementsMatch(t, c.codes, codes)
			for _, spared := range c.spared {
				assert.NotContains(t, codes, spared)
			}
		})
	}
}

// Somebody who touches only what is ours leaves what was there before, and nothing else changes for them.
func TestKeepExistingLeavesWhatWasThere(t *testing.T) {
	theirs, wanted := set(record.A, "x"), set(record.A, "y")
	r := Compare(record.ContentsOf(wanted), record.Contents{}, record.ContentsOf(theirs), LeaveDrift)
	require.Len(t, r.Conflicts, 1)
	ours := r.KeepExisting()
	assert.Empty(t, ours.Conflicts)
	require.Len(t, ours.Foreign, 1)
	both := Compare(record.ContentsOf(wanted), record.ContentsOf(set(record.A, "z")), record.ContentsOf(theirs), LeaveDrift)
	assert.Len(t, both.KeepExisting().Conflicts, 1, "what we placed and somebody changed stays a conflict")
}

// A few names may go without a yes; the apex, many names, or half of a zone may not.
func TestNamesMayStopUpToAThreshold(t *testing.T) {
	zone := dnsname.MustParse("a.example")
	var sets []record.Set
	for i := range 200 {
		sets = append(sets, record.NewSet(dnsname.MustParse(fmt.Sprintf("n%03d.a.example", i)), record.A, 60, "192.0.2.1"))
	}
	sets = append(sets, record.NewSet(zone, record.A, 60, "192.0.2.1"))
	guarded := func(gone []record.Set, live ...record.Set) bool {
		var list change.List
		for _, s := range gone {
			list = append(list, change.Step{Before: s})
		}
		return len(Guards(list, record.Contents{}.With(live...), Watched{Zone: zone})) > 0
	}
	assert.False(t, guarded(sets[:1], sets...))
	assert.False(t, guarded(sets[:4], sets...), "2 % of them")
	assert.True(t, guarded(sets[:5], sets...))
	assert.True(t, guarded(sets[200:], sets...), "the apex")
	assert.False(t, guarded(sets[:2], sets[:6]...))
	assert.True(t, guarded(sets[:3], sets[:7]...))
	assert.True(t, guarded(sets[:1], sets[:2]...), "half of them")
}
