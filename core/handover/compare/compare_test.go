package compare

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/record"
)

func TestCompare(t *testing.T) {
	zone := dnsname.MustParse("saltmarsh-ferries.example")
	k := func(label string) record.Key {
		name, _ := dnsname.ParseRelative(label, zone)
		return record.Key{Name: name, Type: record.A}
	}
	has := func(ttl uint32, data ...record.Data) evidence.Observed {
		return evidence.Observed{Answer: evidence.Positive, Data: data, TTL: ttl}
	}
	none := evidence.Observed{Answer: evidence.NoName}
	empty := evidence.Observed{Answer: evidence.NoData}
	silent := evidence.Observed{Answer: evidence.Silent}
	for name, c := range map[string]struct {
		before, after []evidence.Observed
		kind          Kind
	}{
		"the same at every server":    {[]evidence.Observed{has(60, "192.0.2.1"), has(60, "192.0.2.1")}, []evidence.Observed{has(60, "192.0.2.1")}, ""},
		"absent in two ways":          {[]evidence.Observed{none}, []evidence.Observed{empty}, ""},
		"lost":                        {[]evidence.Observed{has(60, "192.0.2.1")}, []evidence.Observed{none}, Lost},
		"added":                       {[]evidence.Observed{none}, []evidence.Observed{has(60, "192.0.2.1")}, Added},
		"changed":                     {[]evidence.Observed{has(60, "192.0.2.1")}, []evidence.Observed{has(60, "192.0.2.2")}, Changed},
		"TTLs alone":                  {[]evidence.Observed{has(60, "192.0.2.1")}, []evidence.Observed{has(300, "192.0.2.1")}, TTL},
		"one new server differs":      {[]evidence.Observed{has(60, "192.0.2.1")}, []evidence.Observed{has(60, "192.0.2.1"), has(60, "192.0.2.2")}, Changed},
		"one new server is not heard": {[]evidence.Observed{has(60, "192.0.2.1")}, []evidence.Observed{has(60, "192.0.2.1"), silent}, Unheard},
		"the new side was not asked":  {[]evidence.Observed{has(60, "192.0.2.1")}, nil, Unheard},
		"the old side was not heard":  {[]evidence.Observed{silent}, []evidence.Observed{has(60, "192.0.2.1")}, Unheard},
	} {
		t.Run(name, func(t *testing.T) {
			list := Compare([]record.Key{k("www")}, Answers{k("www"): c.before}, Answers{k("www"): c.after})
			if c.kind == "" {
				assert.Empty(t, list)
				return
			}
			if assert.Len(t, list, 1) {
				assert.Equal(t, c.kind, list[0].Kind)
			}
			assert.Equal(t, c.kind == TTL, Digest(list) == "", "a digest names what changes answers")
		})
	}
	contents := record.ContentsOf(record.NewSet(zone, record.SOA, 1, "x"), record.NewSet(zone, record.NS, 1, "x"), record.NewSet(zone, record.ALIAS, 1, "web.example."), record.NewSet(k("b").Name, record.A, 1, "192.0.2.1"))
	assert.Equal(t, []record.Key{{Name: zone, Type: record.A}, {Name: zone, Type: record.AAAA}, k("b")}, Keys(zone, contents, contents))
}
