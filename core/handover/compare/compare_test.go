package compare

import (
	"strings"
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
			list := Compare([]Question{{Key: k("www"), Shown: k("www")}}, Answers{k("www"): c.before}, Answers{k("www"): c.after})
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
}

// A text is the same however it is split into strings, as readers of SPF and DKIM take it.
func TestTextsAreTakenAsOne(t *testing.T) {
	key := record.Key{Name: dnsname.MustParse("t.example"), Type: record.TXT}
	side := func(data ...record.Data) Answers {
		return Answers{key: {{Key: key, Answer: evidence.Positive, Data: data, TTL: 60}}}
	}
	ask := []Question{{Key: key, Shown: key}}
	assert.Empty(t, Compare(ask, side(`"v=spf1 " "-all"`), side(`"v=spf1 -all"`)))
	assert.Len(t, Compare(ask, side(`"v=spf1" "-all"`), side(`"v=spf1 -all"`)), 1, "no space comes between strings")
}

// What is asked: the contents, empty non-terminals, names that nobody has at each level, and a type that nobody has; and what is the same although it looks otherwise.
func TestQuestions(t *testing.T) {
	zone := dnsname.MustParse("saltmarsh-ferries.example")
	set := func(label string, typ record.Type, data ...record.Data) record.Set {
		name, err := dnsname.ParseRelative(label, zone)
		assert.NoError(t, err)
		return record.NewSet(name, typ, 60, data...)
	}
	contents := record.ContentsOf(set("@", record.SOA, "x"), set("@", record.NS, "x"), set("@", record.ALIAS, "web.example."), set("b", record.A, "192.0.2.1"),
		set("*.quay", record.A, "192.0.2.3"), set("deep.below.empty", record.A, "192.0.2.4"), set("pier", record.NS, "ns.pier.saltmarsh-ferries.example."), set("pier", record.DS, "1 13 2 00"), set("ns.pier", record.A, "192.0.2.5"))
	var got []string
	for _, q := range Questions(zone, "nobody", contents, contents) {
		text := q.Key.String()
		if q.Shown != q.Key {
			text += " as " + q.Shown.String()
		}
		if q.Cut {
			text += " cut"
		}
		if q.Empty {
			text += " empty"
		}
		got = append(got, strings.ReplaceAll(text, "saltmarsh-ferries.example.", "Z"))
	}
	assert.Equal(t, []string{"Z A", "Z AAAA", "Z TYPE65400", "b.Z A", "empty.Z A empty", "below.empty.Z A empty", "deep.below.empty.Z A", "nobody.below.empty.Z A as *.below.empty.Z A",
		"nobody.empty.Z A as *.empty.Z A", "nobody.Z A as *.Z A", "pier.Z NS cut", "pier.Z DS", "ns.pier.Z A cut", "quay.Z A empty", "*.quay.Z A", "nobody.quay.Z A as *.quay.Z A"}, got)

	name := func(label string) record.Key { return set(label, record.A).Key() }
	has := func(data ...record.Data) evidence.Observed {
		return evidence.Observed{Answer: evidence.Positive, Data: data, TTL: 60}
	}
	to := func(data ...record.Data) evidence.Observed {
		return evidence.Observed{Answer: evidence.Referral, Data: data}
	}
	none, empty := evidence.Observed{Answer: evidence.NoName}, evidence.Observed{Answer: evidence.NoData}
	for what, c := range map[string]struct {
		q             Question
		before, after []evidence.Observed
		kind          Kind
	}{
		"the same referral":              {Question{Cut: true}, []evidence.Observed{to("ns1.")}, []evidence.Observed{to("ns1.")}, ""},
		"another referral":               {Question{Cut: true}, []evidence.Observed{to("ns1.")}, []evidence.Observed{to("ns2.")}, Changed},
		"a referral where none is known": {Question{}, []evidence.Observed{to("ns1.")}, []evidence.Observed{to("ns1.")}, Unheard},
		"a name denied with those below": {Question{Empty: true}, []evidence.Observed{empty}, []evidence.Observed{none}, Changed},
		"a name denied compactly":        {Question{}, []evidence.Observed{none}, []evidence.Observed{empty}, ""},
		"answers that rotate":            {Question{}, []evidence.Observed{has("a", "b"), has("b", "c")}, []evidence.Observed{has("a", "c"), has("b"), has("c")}, ""},
		"rotating among others":          {Question{}, []evidence.Observed{has("a"), has("b")}, []evidence.Observed{has("a"), has("c")}, Changed},
		"sometimes nothing":              {Question{}, []evidence.Observed{has("a"), has("b")}, []evidence.Observed{has("a"), has("b"), none}, Changed},
	} {
		c.q.Key, c.q.Shown = name("x"), name("y")
		list := Compare([]Question{c.q}, Answers{c.q.Key: c.before}, Answers{c.q.Key: c.after})
		if c.kind == "" {
			assert.Empty(t, list, what)
		} else if assert.Len(t, list, 1, what) {
			assert.Equal(t, c.kind, list[0].Kind, what)
			assert.Equal(t, c.q.Shown, list[0].Key, what)
		}
	}
}
