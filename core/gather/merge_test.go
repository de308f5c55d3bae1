package gather

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/record"
)

func contents(t *testing.T, lines ...string) record.Contents {
	t.Helper()
	var sets []record.Set
	a := authorityOf(style{}, lines...)
	for name, types := range a.sets {
		for _, rrs := range types {
			var list []record.Record
			for _, rr := range rrs {
				r, err := record.FromRR(rr)
				require.NoError(t, err, name)
				list = append(list, r)
			}
			sets = append(sets, setOf(list[0].Key(), list))
		}
	}
	return record.ContentsOf(sets...)
}

func TestMerge(t *testing.T) {
	account := Source{Kind: FromAccount, Name: "plover-old", Claim: Complete, Contents: contents(t, "a.example. 300 IN A 192.0.2.1", "www.a.example. 300 IN A 192.0.2.2")}
	asked := Source{Kind: FromAsking, Name: "ns1", Claim: Unknown, Contents: contents(t, "a.example. 300 IN A 203.0.113.9", "new.a.example. 300 IN A 192.0.2.3", "www.a.example. 60 IN A 192.0.2.2"),
		Doubts: []Doubt{{Key: record.Key{Name: zone, Type: record.A}, Kind: CountsDown, Data: []record.Data{"203.0.113.9"}}}}
	file := Source{Kind: FromFile, Name: "old.zone", Claim: Complete, Contents: contents(t, "a.example. 300 IN MX 10 mx.a.example.")}
	for _, tt := range []struct {
		name    string
		sources []Source
		base    string
		sets    []string // with the sources of each
		doubts  []string
		open    int
	}{
		{"a complete source is believed alone", []Source{asked, account}, "plover-old",
			[]string{"a.example. A [192.0.2.1] [0]", "www.a.example. A [192.0.2.2] [0 1]"}, []string{"a.example. A relayed", "new.a.example. A only-in"}, 0},
		{"without one, the surest has it", []Source{asked}, "", []string{"a.example. A [203.0.113.9] [0]", "new.a.example. A [192.0.2.3] [0]", "www.a.example. A [192.0.2.2] [0]"},
			[]string{"a.example. A counts-down"}, 1},
		{"a file counts less than what is served", []Source{file, account}, "plover-old", []string{"a.example. A [192.0.2.1] [0]", "www.a.example. A [192.0.2.2] [0]"},
			[]string{"a.example. MX only-in"}, 0},
		{"a file alone", []Source{file, asked}, "old.zone", []string{"a.example. MX [10 mx.a.example.] [0]"}, []string{"a.example. A counts-down", "a.example. A only-in", "new.a.example. A only-in", "www.a.example. A only-in"}, 1},
	} {
		t.Run(tt.name, func(t *testing.T) {
			got := Merge(zone, tt.sources)
			base := ""
			if got.Base >= 0 {
				base = got.Sources[got.Base].Name
			}
			assert.Equal(t, tt.base, base)
			var sets, doubts []string
			for _, g := range got.Sets {
				sets = append(sets, fmt.Sprint(g.Set.Key(), " ", g.Set.Data, " ", g.From))
			}
			for _, d := range got.Doubts {
				doubts = append(doubts, fmt.Sprint(d.Key, " ", d.Kind))
			}
			assert.Equal(t, tt.sets, sets)
			assert.Equal(t, tt.doubts, doubts)
			assert.Len(t, got.Undecided(nil), tt.open)
			assert.Len(t, got.Left, 2, "SOA and apex NS, once")
		})
	}
}

func TestDecisions(t *testing.T) {
	apex := record.Key{Name: zone, Type: record.A}
	o := Merge(zone, []Source{{Kind: FromAsking, Name: "ns1", Claim: Unknown, Contents: contents(t, "a.example. 300 IN A 203.0.113.9", "a.example. 300 IN MX 10 mx.a.example.", "www.a.example. 60 IN A 203.0.113.9"),
		Doubts: []Doubt{{Key: apex, Kind: Varies, TTL: 300, Data: []record.Data{"203.0.113.10", "203.0.113.9"}}, {Key: record.Key{Name: dnsname.MustParse("www.a.example"), Type: record.A}, Kind: CountsDown, TTL: 60, Data: []record.Data{"203.0.113.9"}}}}})
	www := record.Key{Name: dnsname.MustParse("www.a.example"), Type: record.A}
	target := dnsname.MustParse("web.host.test")
	mx := "a.example. 300 IN MX 10 mx.a.example."
	for _, tt := range []struct {
		name string
		list []Decision
		want []string
	}{
		{"both are kept", []Decision{{Key: apex, Choice: Keep}, {Key: www, Choice: Keep}}, []string{"a.example. 300 IN A 203.0.113.10", "a.example. 300 IN A 203.0.113.9", mx, "www.a.example. 60 IN A 203.0.113.9"}},
		{"both are left out", []Decision{{Key: apex, Choice: Leave}, {Key: www, Choice: Leave}}, []string{mx}},
		{"both are aliases", []Decision{{Key: apex, Choice: Alias, Target: target}, {Key: www, Choice: Alias, Target: target}},
			[]string{"a.example. 300 IN ALIAS web.host.test.", mx, "www.a.example. 60 IN CNAME web.host.test."}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			assert.Empty(t, o.Undecided(tt.list))
			assert.Equal(t, tt.want, linesOf(o.Contents(zone, tt.list)))
		})
	}
	assert.Len(t, o.Undecided([]Decision{{Key: apex, Choice: Keep}}), 1)
}
