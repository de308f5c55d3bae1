package diff

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/record"
)

func TestDoubts(t *testing.T) {
	a, b := set(record.A, "192.0.2.1"), set(record.A, "192.0.2.2")
	txt := set(record.TXT, `"t"`)
	none := record.Contents{}
	with := func(sets ...record.Set) record.Contents { return record.ContentsOf(sets...) }
	others := func(sets ...record.Set) *record.Contents { c := with(sets...); return &c }
	for _, c := range []struct {
		name         string
		placed, live record.Contents
		others       *record.Contents
		want         []Doubt
	}{
		{"as it was left", with(a, txt), with(a, txt), nil, nil},
		{"gone", with(a), none, nil, []Doubt{{Key: a.Key(), Known: a}}},
		{"other data", with(a), with(b), nil, []Doubt{{Key: a.Key(), Known: a, Read: b}}},
		{"more than before is no doubt", with(a), with(a, txt), nil, nil},
		{"but where the zone is written as a whole", with(a), with(a, txt), others(), []Doubt{{Key: txt.Key(), Read: txt}}},
		{"what others have is gone", with(a), with(a), others(txt), []Doubt{{Key: txt.Key(), Known: txt}}},
		{"what others had is ours now", with(a, txt), with(a, txt), others(txt), nil},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, Doubts(c.placed, c.live, c.others)) })
	}
}

func TestWeigh(t *testing.T) {
	x, y := set(record.A, "192.0.2.1"), set(record.A, "192.0.2.2")
	slow := record.NewSet(www, record.A, 900, "192.0.2.1")
	serves := func(s record.Set) evidence.Observed {
		return evidence.Observed{Key: s.Key(), Answer: evidence.Positive, Data: s.Data, TTL: s.TTL}
	}
	nothing, silent, lame := evidence.Observed{Answer: evidence.NoName}, evidence.Observed{Answer: evidence.Silent}, evidence.Observed{Answer: evidence.Lame}
	gone, changed, slower := Doubt{Key: x.Key(), Known: x}, Doubt{Key: x.Key(), Known: x, Read: y}, Doubt{Key: x.Key(), Known: x, Read: slow}
	form := Doubt{Key: x.Key(), Known: x, Read: slow, Form: true}
	for _, c := range []struct {
		name    string
		doubt   Doubt
		answers []evidence.Observed
		want    Verdict
	}{
		{"all serve what was read", gone, []evidence.Observed{nothing, nothing}, Verdict{Heard: true, Agreed: true}},
		{"one still serves what is known", gone, []evidence.Observed{nothing, serves(x)}, Verdict{Heard: true}},
		{"something else is there", gone, []evidence.Observed{serves(y)}, Verdict{Heard: true}},
		{"the new data is served", changed, []evidence.Observed{serves(y)}, Verdict{Heard: true, Agreed: true}},
		{"the old data is served", changed, []evidence.Observed{serves(x)}, Verdict{Heard: true}},
		{"the TTL tells", slower, []evidence.Observed{serves(slow)}, Verdict{Heard: true, Agreed: true}},
		{"the old TTL is served", slower, []evidence.Observed{serves(x)}, Verdict{Heard: true}},
		{"one that does not answer says nothing", changed, []evidence.Observed{silent, serves(y)}, Verdict{Heard: true, Agreed: true}},
		{"none answers", changed, []evidence.Observed{silent, silent}, Verdict{Silent: true}},
		{"none serves the zone", changed, []evidence.Observed{lame}, Verdict{}},
		{"no resolver was asked", changed, nil, Verdict{}},
		{"it is served as sent, and shown in the provider's way", form, []evidence.Observed{serves(x)}, Verdict{Heard: true, Agreed: true}},
		{"an alias has taken its place", gone, []evidence.Observed{{Answer: evidence.Positive, Alias: true, Data: []record.Data{"web."}}}, Verdict{Heard: true, Agreed: true}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var heard []Heard
			for _, o := range c.answers {
				heard = append(heard, Heard{Server: "ns1", Doubt: c.doubt, Answer: o})
			}
			v := Weigh(heard)
			assert.Equal(t, v.Heard && !v.Agreed, v.Why != "", "who denies a read is named")
			v.Why = ""
			assert.Equal(t, c.want, v)
		})
	}
	old := form
	old.Was = slow
	v := Weigh([]Heard{{Server: "ns1", Doubt: old, Answer: serves(x)}})
	assert.False(t, v.Agreed, "what was there before the write is no form of it")
}

func TestSample(t *testing.T) {
	wild := record.NewSet(dnsname.MustParse("*.saltmarsh-ferries.example"), record.A, 300, "192.0.2.9")
	alias := record.NewSet(apex, record.ALIAS, 300, "web.example.")
	gone := Doubt{Key: record.Key{Name: www, Type: record.A}, Known: set(record.A, "192.0.2.9")}
	assert.Len(t, Sample([]Doubt{gone}, apex, record.Contents{}), 1)
	assert.Empty(t, Sample([]Doubt{gone}, apex, record.ContentsOf(wild)), "a wildcard stands in")
	assert.Empty(t, Sample([]Doubt{{Key: record.Key{Name: apex, Type: record.A}}}, apex, record.ContentsOf(alias)), "the provider answers in its place")
	assert.Empty(t, Sample([]Doubt{{Key: record.Key{Name: www, Type: record.NS}}}, apex, record.Contents{}), "a cut is not answered")
	var many []Doubt
	for i := range 100 {
		many = append(many, Doubt{Key: record.Key{Name: dnsname.MustParse(fmt.Sprintf("n%03d.saltmarsh-ferries.example", i)), Type: record.A}})
	}
	some := Sample(many, apex, record.Contents{})
	require.Len(t, some, mostAsked)
	assert.Equal(t, many[0], some[0])
	assert.Equal(t, many[97], some[len(some)-1])
}
