package change

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/record"
)

var ferries = dnsname.MustParse("saltmarsh-ferries.example")

// What a provider makes of what is wanted, and what is said about it.
func TestProjection(t *testing.T) {
	quoted := func(text string) record.Data { return record.Data(record.Quoted(text)) }
	ttl := func(s record.Set, seconds uint32) record.Set { s.TTL = seconds; return s }
	a := set("www", record.A, "192.0.2.1")
	for _, c := range []struct {
		name   string
		caps   Caps
		wanted record.Set
		want   record.Set // zero: it cannot be held
		code   string
	}{
		{"a TTL on the ladder stays", Caps{TTLSteps: []uint32{60, 300, 900}}, a, a, ""},
		{"a TTL between two rungs goes up", Caps{TTLSteps: []uint32{60, 900}}, a, ttl(a, 900), "ttl-raised"},
		{"a TTL above the ladder comes down", Caps{TTLSteps: []uint32{60, 120}}, a, ttl(a, 120), "ttl-lowered"},
		{"a floor below a ladder's first rung", Caps{TTLFloor: 100, TTLSteps: []uint32{60, 600}}, ttl(a, 20), ttl(a, 600), "ttl-raised"},
		{"a type that is not known", Caps{Types: []record.Type{record.TXT}}, a, record.Set{}, "type-unsupported"},
		{"a type that is", Caps{Types: []record.Type{record.TXT, record.A}}, a, a, ""},
		{"one string stays", Caps{Texts: TextJoined}, set("t", record.TXT, `"one"`), set("t", record.TXT, `"one"`), ""},
		{"strings are put together", Caps{Texts: TextJoined}, set("t", record.TXT, `"one " "two"`), set("t", record.TXT, `"one two"`), "text-joined"},
		{"a long text is cut again", Caps{Texts: TextJoined}, set("t", record.TXT, quoted(strings.Repeat("x", 100))+" "+quoted(strings.Repeat("x", 200))), set("t", record.TXT, quoted(strings.Repeat("x", 300))), "text-joined"},
		{"strings that fit one", Caps{Texts: TextSingle}, set("t", record.TXT, `"one " "two"`), set("t", record.TXT, `"one two"`), "text-joined"},
		{"a text that fits no string", Caps{Texts: TextSingle}, set("t", record.TXT, quoted(strings.Repeat("x", 256))), record.Set{}, "text-unsupported"},
		{"octets that are no text", Caps{Texts: TextJoined}, set("t", record.TXT, `"\200"`), record.Set{}, "text-unsupported"},
		{"strings that may stay as they are", Caps{}, set("t", record.TXT, `"one " "two"`), set("t", record.TXT, `"one " "two"`), ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, found := c.caps.Project(ferries, record.ContentsOf(c.wanted))
			assert.True(t, got.Get(c.wanted.Key()).Equal(c.want), "%s", got.Records())
			if c.code == "" {
				assert.Empty(t, found)
				return
			}
			require.Len(t, found, 1)
			assert.Equal(t, c.code, found[0].Code)
			again, _ := c.caps.Project(ferries, got)
			assert.True(t, again.Equal(got), "what can be held is held as it is")
		})
	}
}

// The fewest changes of single records that make one set of another.
func TestOps(t *testing.T) {
	one, other := set("www", record.A, "192.0.2.1", "192.0.2.2"), set("www", record.A, "192.0.2.2", "192.0.2.3")
	slow := other
	slow.TTL = 900
	for _, c := range []struct {
		name string
		step Step
		want string
	}{
		{"new", put(one), "create 192.0.2.1, create 192.0.2.2"},
		{"gone", drop(one), "delete 192.0.2.1, delete 192.0.2.2"},
		{"one goes and one comes", Step{Before: one, After: other}, "update 192.0.2.1 to 192.0.2.3"},
		{"the same with another TTL", Step{Before: other, After: slow}, "update 192.0.2.2 to 192.0.2.2, update 192.0.2.3 to 192.0.2.3"},
		{"nothing", Step{Before: one, After: one}, ""},
		{"an attribute", Step{Before: set("x", record.A, "192.0.2.1"), After: set("x", record.A, "192.0.2.1"), Attributes: map[string]string{"memo": "m"}}, "update 192.0.2.1 to 192.0.2.1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var words []string
			state := c.step.Before.Records()
			for _, op := range c.step.Ops() {
				state = op.apply(state)
				switch op.Verb {
				case Create:
					words = append(words, "create "+string(op.After.Data))
				case Delete:
					words = append(words, "delete "+string(op.Before.Data))
				default:
					words = append(words, "update "+string(op.Before.Data)+" to "+string(op.After.Data))
				}
			}
			assert.Equal(t, c.want, strings.Join(words, ", "))
			assert.True(t, setOf(c.step.Key(), state).Equal(c.step.After) || c.step.After.IsZero() && len(state) == 0)
		})
	}
}

func TestAttributed(t *testing.T) {
	caps := Caps{Attributes: []Attribute{{Name: "relay", Relay: "on"}}}
	www, other := set("www", record.A, "192.0.2.1"), set("other", record.A, "192.0.2.2")
	live := record.ContentsOf(www)
	declared := map[record.Key]map[string]string{www.Key(): {"relay": "on", "memo": "x"}, other.Key(): {"relay": "off"}}
	list, found := caps.Attributed(nil, declared, live, live, Details{www.Key(): {Attributes: map[string]string{"relay": "off"}}})
	require.Len(t, list, 1, "a set that is right but for its attribute")
	assert.Equal(t, map[string]string{"relay": "on"}, list[0].Attributes, "what the provider does not know is left out")
	require.Len(t, found, 1)
	assert.Equal(t, "extra-not-known", found[0].Code)
	list, _ = caps.Attributed(nil, declared, live, live, Details{www.Key(): {Attributes: map[string]string{"relay": "on"}}})
	assert.Empty(t, list, "it is as declared")
	list, _ = caps.Attributed(List{put(other)}, declared, record.ContentsOf(www, other), live, Details{www.Key(): {Attributes: map[string]string{"relay": "on"}}})
	require.Len(t, list, 1)
	assert.Equal(t, "off", list[0].Attributes["relay"], "a set that is put anyway takes its attribute along")
	assert.True(t, caps.Relayed(map[string]string{"relay": "on"}))
	assert.False(t, caps.Relayed(map[string]string{"relay": "off"}))
}

func TestGaps(t *testing.T) {
	swap := List{drop(set("www", record.CNAME, "web.")), put(set("www", record.A, "192.0.2.1")), put(set("x", record.A, "192.0.2.1"))}
	for name, c := range map[string]struct {
		caps Caps
		gap  bool
	}{
		"all or nothing": {Caps{Atomic: true, BatchSize: 10}, false}, "one after the other": {Caps{BatchSize: 10}, true},
		"one at a time": {Caps{Atomic: true, BatchSize: 1}, true}, "the whole zone": {Caps{Granularity: ByZone}, false},
	} {
		list, found := c.caps.Gaps(swap)
		assert.Equal(t, c.gap, list[0].Gap && list[1].Gap && len(found) == 1, name)
		assert.False(t, list[2].Gap, name)
	}
	assert.False(t, swap[0].Gap, "the list that was given is left as it is")
}

func TestCapsTravel(t *testing.T) {
	want := Caps{Granularity: ByRecord, Texts: TextSingle, TTLSteps: []uint32{60}, Types: []record.Type{record.A}, Attributes: []Attribute{{Name: "memo"}}}
	text, err := json.Marshal(want)
	require.NoError(t, err)
	var got Caps
	require.NoError(t, json.Unmarshal(text, &got))
	assert.Equal(t, want, got)
	assert.Error(t, json.Unmarshal([]byte(`{"granularity":"octet"}`), &got))
}

func TestDetailsJoin(t *testing.T) {
	key := set("www", record.A, "x").Key()
	d := Details{}
	d.Join(key, Detail{Refs: map[record.Data]string{"a": "1"}})
	d.Join(key, Detail{Refs: map[record.Data]string{"b": "2"}, Attributes: map[string]string{"memo": "m"}})
	assert.Equal(t, Detail{Refs: map[record.Data]string{"a": "1", "b": "2"}, Attributes: map[string]string{"memo": "m"}}, d[key])
}
