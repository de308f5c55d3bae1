package change

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/record"
)

func set(label string, t record.Type, data ...record.Data) record.Set {
	return record.NewSet(dnsname.MustParse(label+".saltmarsh-ferries.example"), t, 300, data...)
}

func put(s record.Set) Step  { return Step{After: s} }
func drop(s record.Set) Step { return Step{Before: s} }
func text(l List) string {
	var words []string
	for _, s := range l {
		label, _, _ := strings.Cut(s.Key().Name.String(), ".")
		words = append(words, s.Verb()+" "+label+" "+s.Key().Type.String())
	}
	return strings.Join(words, ", ")
}

func texts(batches []Batch) (out []string) {
	for _, b := range batches {
		out = append(out, text(b.Steps))
	}
	return out
}

// How lists become requests: as few as fit, and what makes room stays with what needs it.
func TestPack(t *testing.T) {
	a, txt, cname := set("www", record.A, "192.0.2.1"), set("www", record.TXT, `"x"`), set("www", record.CNAME, "web.")
	one, two, three := put(set("one", record.A, "x")), put(set("two", record.A, "x")), put(set("three", record.A, "x"))
	for _, c := range []struct {
		name string
		size int
		list List
		want []string
	}{
		{"nothing", 2, nil, nil},
		{"no limit", 0, List{one, two, three}, []string{"add one A, add two A, add three A"}},
		{"cut by size", 2, List{one, two, three}, []string{"add one A, add two A", "add three A"}},
		{"a swap is not cut", 2, List{one, drop(a), put(cname)}, []string{"add one A", "remove www A, add www CNAME"}},
		{"room is filled later", 2, List{one, drop(a), put(cname), two}, []string{"add one A, add two A", "remove www A, add www CNAME"}},
		{"several make room for a CNAME: the last of them goes with it", 2, List{drop(a), drop(txt), put(cname)},
			[]string{"remove www A", "remove www TXT, add www CNAME"}},
		{"a CNAME makes room for several: the first of them comes with it", 2, List{drop(cname), put(a), put(txt)},
			[]string{"remove www CNAME, add www A", "add www TXT"}},
		{"sets of one name that do not collide may part", 1, List{put(a), put(txt)}, []string{"add www A", "add www TXT"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.want, texts(Caps{BatchSize: c.size}.Pack(c.list, record.Contents{})))
		})
	}
}

func TestPackOfWholeZones(t *testing.T) {
	stays, goes, comes := set("stays", record.A, "x"), set("goes", record.A, "x"), set("comes", record.A, "x")
	batches := Caps{Granularity: ByZone, BatchSize: 1}.Pack(List{drop(goes), put(comes)}, record.ContentsOf(stays, goes))
	require.Len(t, batches, 1, "a whole zone is one request, however many steps")
	assert.True(t, batches[0].Result.Equal(record.ContentsOf(stays, comes)))
}

func TestApplyAndCount(t *testing.T) {
	before, after := set("www", record.A, "192.0.2.1"), set("www", record.A, "192.0.2.2", "192.0.2.3")
	other := set("other", record.TXT, `"x"`)
	list := List{{Before: before, After: after}, put(set("new", record.A, "x")), drop(other)}
	got := list.Apply(record.ContentsOf(before, other))
	assert.True(t, got.Equal(record.ContentsOf(after, set("new", record.A, "x"))))
	add, change, remove := list.Count()
	assert.Equal(t, []int{1, 1, 1}, []int{add, change, remove})
	assert.Equal(t, other.Key(), list[2].Key())
}

// A digest names what a list does, and nothing else.
func TestDigest(t *testing.T) {
	a, b := put(set("a", record.A, "x")), put(set("b", record.A, "x"))
	same := a
	same.Reason = "said otherwise"
	assert.Equal(t, List{a, b}.Digest(), List{same, b}.Digest())
	assert.NotEqual(t, List{a, b}.Digest(), List{a}.Digest())
	assert.NotEqual(t, List{a}.Digest(), List{drop(a.After)}.Digest(), "putting is not removing")
	ttl := a
	ttl.After.TTL++
	assert.NotEqual(t, List{a}.Digest(), List{ttl}.Digest())
	assert.NotEqual(t, FingerprintOf(a.After, record.Set{}), FingerprintOf(record.Set{}, a.After))
}

func TestProject(t *testing.T) {
	zone := dnsname.MustParse("saltmarsh-ferries.example")
	low, high := set("low", record.A, "x"), set("high", record.A, "x")
	low.TTL, high.TTL = 5, 900
	got, found := Caps{TTLFloor: 60}.Project(zone, record.ContentsOf(low, high))
	assert.EqualValues(t, 60, got.Get(low.Key()).TTL)
	assert.EqualValues(t, 900, got.Get(high.Key()).TTL)
	require.Len(t, found, 1)
	assert.Contains(t, found[0].Message, "one record set")
	got, found = Caps{}.Project(zone, record.ContentsOf(low, high))
	assert.True(t, got.Equal(record.ContentsOf(low, high)))
	assert.Empty(t, found, "nothing to say where nothing is changed")
}

// What the provider keeps for itself is not dropped without a word.
func TestProjectSaysWhatTheProviderKeeps(t *testing.T) {
	zone := dnsname.MustParse("saltmarsh-ferries.example")
	ns := record.NewSet(zone, record.NS, 300, "ns1.tidepool.example.")
	below := set("pier", record.NS, "ns1.pier.example.")
	got, found := Caps{OwnsApex: true}.Project(zone, record.ContentsOf(ns, below))
	assert.True(t, got.Equal(record.ContentsOf(below)))
	require.Len(t, found, 1)
	assert.Equal(t, "apex-not-written", found[0].Code)
	assert.Contains(t, found[0].Message, "saltmarsh-ferries.example. NS")
	assert.Contains(t, found[0].Remedy, "nameservers:")
	_, found = Caps{}.Project(zone, record.ContentsOf(ns))
	assert.Empty(t, found, "where it may be written, it is")
}
