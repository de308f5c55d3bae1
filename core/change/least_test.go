package change

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// piece is what must go in one request, as the brute-force search sees it: a whole set, a part of one that no request can
// hold, or the sets of a name of which one makes room for another.
type piece struct {
	steps List
	cost  int
}

// brute finds the fewest requests by trying every way of doing the pieces, one request after the other. What is promised
// about the states between requests it checks on the states themselves.
func brute(c Caps, pieces []piece, list List, live record.Contents) int {
	n := len(pieces)
	final := list.Apply(live)
	valid := make([]bool, 1<<n)
	cost := make([]int, 1<<n)
	for set := range 1 << n {
		done := live
		parts := map[record.Key]bool{}
		for i, p := range pieces {
			if set&(1<<i) == 0 {
				continue
			}
			cost[set] += p.cost
			for _, s := range p.steps {
				parts[s.Key()] = true
				done = List{s}.Apply(done)
			}
		}
		valid[set] = keepsPromises(done, live, final)
	}
	const never = 1 << 20
	least := make([]int, 1<<n)
	for done := 1<<n - 2; done >= 0; done-- {
		least[done] = never
		rest := (1<<n - 1) &^ done
		for batch := rest; batch > 0; batch = (batch - 1) & rest {
			if cost[batch] <= c.BatchSize && valid[done|batch] {
				least[done] = min(least[done], 1+least[done|batch])
			}
		}
	}
	return least[0]
}

// keepsPromises reports whether a state between two requests is one that nobody is hurt by.
func keepsPromises(state, live, final record.Contents) bool {
	whole := func(name dnsname.Name, in record.Contents) bool { // everything that the name has there is here
		for _, r := range in.At(name) {
			if !state.Get(r.Key()).Equal(in.Get(r.Key())) {
				return false
			}
		}
		return true
	}
	has := func(c record.Contents, r record.Record) bool {
		for _, d := range c.Get(r.Key()).Data {
			if d == r.Data {
				return true
			}
		}
		return false
	}
	for _, r := range state.Records() {
		for _, other := range state.At(r.Name) {
			if record.Collide(r.Type, other.Type) {
				return false
			}
		}
		target := r.Data.Target(r.Type)
		if target.IsZero() {
			continue
		}
		if !has(live, r) && len(live.At(target)) == 0 && !whole(target, final) {
			return false
		}
		if !has(final, r) && len(final.At(target)) == 0 && !whole(target, live) {
			return false
		}
	}
	return true
}

// randomList makes two states of a small zone, and the list that leads from one to the other.
func randomList(rng *rand.Rand) (list List, live record.Contents) {
	name := func(i int) dnsname.Name { return dnsname.MustParse(fmt.Sprintf("n%d.ferries.example", i)) }
	someSet := func(i int) record.Set {
		switch rng.IntN(5) {
		case 0:
			return record.Set{}
		case 1:
			return record.NewSet(name(i), record.CNAME, 300, record.Data(name(i+1+rng.IntN(3)).String()))
		case 2:
			return record.NewSet(name(i), record.MX, 300, record.Data("10 "+name(i+1+rng.IntN(3)).String()))
		}
		var data []record.Data
		for range 1 + rng.IntN(3) {
			data = append(data, record.Data(fmt.Sprintf("192.0.2.%d", rng.IntN(6))))
		}
		return record.NewSet(name(i), record.A, uint32(300*(1+rng.IntN(2))), data...)
	}
	var before, after []record.Set
	for i := range 5 {
		before, after = append(before, someSet(i)), append(after, someSet(i))
	}
	live = record.ContentsOf(before...)
	wanted := record.ContentsOf(after...)
	for i := range 5 {
		for _, removal := range []bool{true, false} {
			for _, typ := range []record.Type{record.A, record.CNAME, record.MX} {
				key := record.Key{Name: name(i), Type: typ}
				if was, is := live.Get(key), wanted.Get(key); !was.Equal(is) && is.IsZero() == removal {
					list = append(list, Step{Before: was, After: is})
				}
			}
		}
	}
	return list, live
}

// piecesOf divides a list independently of Pack.
func piecesOf(c Caps, list List) (pieces []piece, fits bool) {
	cost := func(s Step) int {
		if c.Granularity == BySet {
			return 1
		}
		return len(s.Ops())
	}
	for i := 0; i < len(list); {
		j := i + 1
		for j < len(list) && list[j].Key().Name == list[i].Key().Name {
			j++
		}
		group, total := list[i:j], 0
		for _, s := range group {
			total += cost(s)
		}
		i = j
		if len(group) > 1 && record.Collide(group[0].Key().Type, group[len(group)-1].Key().Type) {
			if total > c.BatchSize {
				return nil, false // a swap that no request can hold is another matter
			}
			pieces = append(pieces, piece{group, total})
			continue
		}
		for _, s := range group {
			if cost(s) > c.BatchSize {
				return nil, false
			}
			pieces = append(pieces, piece{List{s}, cost(s)})
		}
	}
	return pieces, true
}

// For a thousand random lists of up to six changes and each kind of provider, there is no way to do with fewer requests.
func TestFewestRequests(t *testing.T) {
	for name, caps := range map[string]Caps{
		"Heron: sets, twenty at a time":      {BatchSize: 20, Atomic: true},
		"Curlew: records, twelve at a time":  {Granularity: ByRecord, BatchSize: 12},
		"Plover: the whole zone":             {Granularity: ByZone, Atomic: true},
		"a nameserver: a hundred at a time":  {BatchSize: 100, Atomic: true},
		"sets, two at a time":                {BatchSize: 2, Atomic: true},
		"sets, three at a time":              {BatchSize: 3, Atomic: true},
		"records, three at a time":           {Granularity: ByRecord, BatchSize: 3},
		"records, four at a time":            {Granularity: ByRecord, BatchSize: 4},
		"records, five at a time, all or no": {Granularity: ByRecord, BatchSize: 5, Atomic: true},
	} {
		t.Run(name, func(t *testing.T) {
			seed := rand.Uint64()
			rng := rand.New(rand.NewPCG(seed, 1))
			sizes, several := map[int]int{}, 0
			for lists := 0; lists < 1000; {
				list, live := randomList(rng)
				if len(list) == 0 || len(list) > 6 {
					continue
				}
				batches := caps.Pack(list, live)
				if caps.Granularity == ByZone {
					require.Len(t, batches, 1)
					lists++
					continue
				}
				pieces, fits := piecesOf(caps, list)
				if !fits {
					continue
				}
				lists++
				sizes[len(list)]++
				want := brute(caps, pieces, list, live)
				if want > 1 {
					several++
				}
				require.Equal(t, want, len(batches), "seed %d: %s", seed, text(list))
				state := live
				for _, b := range batches {
					state = b.Steps.Apply(state)
					require.True(t, keepsPromises(state, live, list.Apply(live)), "seed %d: %s: after %s", seed, text(list), text(b.Steps))
				}
				require.True(t, state.Equal(list.Apply(live)))
			}
			t.Logf("lists by number of changes: %v; %d of them needed several requests", sizes, several)
		})
	}
}

// Longer lists keep to the bound that Pack states.
func TestFewRequestsForLongLists(t *testing.T) {
	rng := rand.New(rand.NewPCG(rand.Uint64(), 2))
	for range 300 {
		caps := Caps{Granularity: Granularity(rng.IntN(2)), BatchSize: 2 + rng.IntN(20), Atomic: true}
		var list List
		total := 0
		for i := range 20 + rng.IntN(400) {
			var data []record.Data
			for j := range 1 + rng.IntN(caps.BatchSize) {
				data = append(data, record.Data(fmt.Sprintf("192.0.2.%d", j)))
			}
			s := Step{After: record.NewSet(dnsname.MustParse(fmt.Sprintf("n%d.ferries.example", i)), record.A, 300, data...)}
			list = append(list, s)
			if caps.Granularity == ByRecord {
				total += len(s.Ops())
			} else {
				total++
			}
		}
		batches := caps.Pack(list, record.Contents{})
		assert.LessOrEqual(t, len(batches), 2*((total+caps.BatchSize-1)/caps.BatchSize))
		n := 0
		for _, b := range batches {
			n += len(b.Steps)
			assert.LessOrEqual(t, max(len(b.Ops), len(b.Steps)*(1-int(caps.Granularity))), caps.BatchSize)
		}
		assert.Equal(t, len(list), n)
	}
}

// A set that no request can hold is divided, and each part says what it leaves behind.
func TestDividedSet(t *testing.T) {
	var before, after []record.Data
	for i := range 10 {
		before, after = append(before, record.Data(fmt.Sprintf("192.0.2.%d", i))), append(after, record.Data(fmt.Sprintf("192.0.2.%d", i+5)))
	}
	name := dnsname.MustParse("many.ferries.example")
	step := Step{Before: record.NewSet(name, record.A, 300, before...), After: record.NewSet(name, record.A, 60, after...)}
	batches := Caps{Granularity: ByRecord, BatchSize: 4}.Pack(List{step}, record.ContentsOf(step.Before))
	require.Len(t, batches, 3, "five new values and five new TTLs are ten changes")
	state, ops := record.ContentsOf(step.Before), 0
	for _, b := range batches {
		ops += len(b.Ops)
		require.Len(t, b.Steps, 1)
		assert.True(t, b.Steps[0].Before.Equal(state.Get(step.Key())), "a part begins where the last one ended")
		assert.Len(t, b.Steps[0].After.Data, 10, "the name is never with fewer values than needed")
		state = b.Steps.Apply(state)
	}
	assert.Equal(t, 10, ops)
	assert.True(t, state.Get(step.Key()).Equal(step.After))
}
