package diff

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
)

var (
	apex = dnsname.MustParse("saltmarsh-ferries.example")
	www  = dnsname.MustParse("www.saltmarsh-ferries.example")
)

func set(typ record.Type, data ...record.Data) record.Set {
	return record.NewSet(www, typ, 300, data...)
}

// The whole table: every way in which wanted, placed and live can agree or differ about one set.
func TestOneSet(t *testing.T) {
	none, x, y, z := record.Set{}, set(record.A, "x"), set(record.A, "y"), set(record.A, "z")
	for _, c := range []struct {
		name                 string
		wanted, placed, live record.Set
		want                 Kind
	}{
		{"all the same", x, x, x, InSync},
		{"there without us", x, none, x, InSync},
		{"changed here and there alike", y, x, y, InSync},
		{"new", x, none, none, Ours},
		{"changed by us", y, x, x, Ours},
		{"taken out by us", none, x, x, Ours},
		{"changed elsewhere", x, x, y, Drift},
		{"removed elsewhere", x, x, none, Drift},
		{"made elsewhere", none, none, x, Foreign},
		{"made elsewhere, wanted otherwise", x, none, y, Conflict},
		{"changed here and elsewhere", x, y, z, Conflict},
		{"taken out here, changed elsewhere", none, x, y, Conflict},
		{"changed here, removed elsewhere", y, x, none, Conflict},
		{"gone on both sides", none, x, none, InSync},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := Compare(record.ContentsOf(c.wanted), record.ContentsOf(c.placed), record.ContentsOf(c.live), LeaveDrift)
			count := map[Kind]int{InSync: r.InSync + len(r.Forgotten), Ours: len(r.Steps), Drift: len(r.Drift),
				Conflict: len(r.Conflicts), Foreign: len(r.Foreign)}
			assert.Equal(t, map[Kind]int{InSync: 0, Ours: 0, Drift: 0, Conflict: 0, Foreign: 0, c.want: 1},
				count)
		})
	}
}

func anyContents(t *rapid.T, label string) record.Contents {
	names := []dnsname.Name{apex, www, dnsname.MustParse("pier.saltmarsh-ferries.example")}
	set := rapid.Custom(func(t *rapid.T) record.Set {
		typ := rapid.SampledFrom([]record.Type{record.A, record.TXT, record.CNAME}).Draw(t, "type")
		data := rapid.SliceOfN(rapid.SampledFrom([]record.Data{"x", "y"}), 1, 2).Draw(t, "data")
		return record.NewSet(rapid.SampledFrom(names).Draw(t, "name"), typ, rapid.Uint32Range(1, 2).Draw(t, "ttl"), data...)
	})
	c := record.ContentsOf()
	for _, s := range rapid.SliceOfN(set, 0, 6).Draw(t, label) {
		stands := true
		for _, r := range c.At(s.Name) {
			stands = stands && !record.Collide(r.Type, s.Type)
		}
		if stands {
			c = c.With(s)
		}
	}
	return c
}

// The law, stated per set and independently of how Compare walks.
func TestLaw(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		wanted, placed, live := anyContents(t, "wanted"), anyContents(t, "placed"), anyContents(t, "live")
		policy := rapid.SampledFrom([]DriftPolicy{LeaveDrift, RevertDrift}).Draw(t, "policy")
		r := Compare(wanted, placed, live, policy)
		after := r.Steps.Apply(live)

		undecided := map[record.Key]bool{}
		for _, list := range [][]Item{r.Drift, r.Conflicts, r.Foreign} {
			for _, item := range list {
				if undecided[item.Key] {
					t.Fatalf("%s is listed twice", item.Key)
				}
				undecided[item.Key] = true
			}
		}
		keys := map[record.Key]bool{}
		for _, c := range []record.Contents{wanted, placed, live} {
			for s := range c.Sets() {
				keys[s.Key()] = true
			}
		}
		for key := range keys {
			w, p, l := wanted.Get(key), placed.Get(key), live.Get(key)
			want := w
			if undecided[key] {
				want = l
				if w.Equal(l) || policy == RevertDrift && !w.IsZero() && w.Equal(p) && !conflictAt(r, key.Name) {
					t.Fatalf("%s is undecided without need", key)
				}
			}
			if !after.Get(key).Equal(want) {
				t.Fatalf("%s is %s afterwards, want %s", key, after.Get(key), want)
			}
		}
		for s := range after.Sets() {
			for _, r := range after.At(s.Name) {
				if record.Collide(s.Type, r.Type) {
					t.Fatalf("%s collides with %s afterwards", s, r)
				}
			}
		}
		if again := Compare(wanted, after, after, policy); len(r.Drift)+len(r.Conflicts)+len(r.Foreign) == 0 && len(again.Steps) > 0 {
			t.Fatalf("a second comparison still has %v", again.Steps)
		}
	})
}

func conflictAt(r Result, name dnsname.Name) bool {
	for _, item := range r.Conflicts {
		if item.Key.Name == name {
			return true
		}
	}
	return false
}

// A CNAME that would meet a foreign record must not cost the name the answer it has.
func TestCollisionHoldsTheWholeName(t *testing.T) {
	a, cname, txt := set(record.A, "x"), set(record.CNAME, "y."), set(record.TXT, "foreign")
	r := Compare(record.ContentsOf(cname), record.ContentsOf(a), record.ContentsOf(a, txt), LeaveDrift)
	assert.Empty(t, r.Steps)
	assert.Len(t, r.Conflicts, 2)
	assert.Len(t, r.Foreign, 1)

	r = Compare(record.ContentsOf(cname), record.ContentsOf(a), record.ContentsOf(a), LeaveDrift)
	require.Len(t, r.Steps, 2)
	assert.Equal(t, "remove", r.Steps[0].Verb(), "what collides goes first")
	batches := change.Caps{BatchSize: 2}.Pack(append(change.List{{After: record.NewSet(apex, record.A, 1, "x")}}, r.Steps...), record.Contents{})
	require.Len(t, batches, 2)
	assert.Equal(t, r.Steps, batches[1].Steps, "and in one request with it")
}

func TestGuardCountsNames(t *testing.T) {
	live := record.ContentsOf(set(record.A, "x", "y"), set(record.TXT, "t"), record.NewSet(apex, record.A, 1, "x"))
	part := Compare(record.ContentsOf(set(record.TXT, "t")), live, live, LeaveDrift)
	found := Guards(part.Steps, live, Watched{Zone: apex})
	require.Len(t, found, 1)
	assert.Contains(t, found[0].Message, "One name that answers now")
	assert.Equal(t, apex.Unicode(), found[0].Subject)

	swap := Compare(record.ContentsOf(set(record.CNAME, "web."), record.NewSet(apex, record.A, 1, "x")), live, live, LeaveDrift)
	assert.Empty(t, Guards(swap.Steps, live, Watched{Zone: apex}), "a name that gets another answer does not stop")
}

func TestPackCoversTheList(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		live := anyContents(t, "live")
		list := Compare(anyContents(t, "wanted"), live, live, LeaveDrift).Steps
		caps := change.Caps{BatchSize: rapid.IntRange(2, 5).Draw(t, "size")}
		if rapid.Bool().Draw(t, "zone") {
			caps = change.Caps{Granularity: change.ByZone}
		}
		state, steps := live, 0
		for _, b := range caps.Pack(list, live) {
			if caps.BatchSize > 0 && len(b.Steps) > caps.BatchSize {
				t.Fatalf("%d steps in a batch of %d", len(b.Steps), caps.BatchSize)
			}
			state = b.Steps.Apply(state)
			steps += len(b.Steps)
			if caps.Granularity == change.ByZone && !b.Result.Equal(state) {
				t.Fatal("the result of a whole-zone batch is not what its steps give")
			}
		}
		if steps != len(list) || !state.Equal(list.Apply(live)) {
			t.Fatal("the batches do not add up to the list")
		}
	})
}

func TestProjectKeepsOffTheProvidersOwn(t *testing.T) {
	wanted := record.ContentsOf(record.NewSet(apex, record.NS, 1, "ns1."), record.NewSet(apex, record.SOA, 1, "soa"),
		record.NewSet(www, record.NS, 1, "ns2."), set(record.A, "x"))
	got, found := change.Caps{OwnsApex: true, TTLFloor: 60}.Project(apex, wanted)
	assert.Equal(t, 2, got.Len())
	assert.EqualValues(t, 60, got.Get(record.Key{Name: www, Type: record.NS}).TTL)
	require.Len(t, found, 2)
	assert.Equal(t, "ttl-raised", found[0].Code)
	assert.Equal(t, "apex-not-written", found[1].Code)
}
