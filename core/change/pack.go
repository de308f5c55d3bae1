package change

import (
	"math/bits"
	"slices"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// Batch is what one request carries.
type Batch struct {
	Steps List
	// Ops are the steps record by record, for providers that write single records (ByRecord); else empty.
	Ops []Op
	// Result is the whole zone after the batch, for providers that take nothing less (ByZone); else empty.
	Result record.Contents
	// Base is the whole zone before the batch, with Result.
	Base record.Contents
	// Mark is the change mark of the read that the batch was made from; empty where the provider has none.
	Mark string
	// Details are what the same read told of sets besides their records.
	Details Details
}

// SOA returns the step of the SOA record where the batch is one: its sets have serial 0 in place of the provider's.
func (b Batch) SOA() (s Step, ok bool) {
	if len(b.Steps) == 1 && b.Steps[0].ofSOA() {
		return b.Steps[0], true
	}
	return s, false
}

func (s Step) ofSOA() bool { return s.Key().Type == record.SOA }

// Pack divides a list into batches for a provider that now holds live: into the fewest that keep these promises.
// Where something at a name goes to make room for something else, both go in one request if one can hold them. A name
// that other records lead to is there before they lead to it, and goes after they have ceased to. A set is divided only
// where one request cannot hold it.
//
// Of up to mostExact units of work the number is the least possible. Of more, it is at most twice what the units fill,
// plus the longest chain of names that lead to each other. A step of the SOA record is a batch by itself, the last.
func (c Caps) Pack(list List, live record.Contents) []Batch {
	if at := slices.IndexFunc(list, Step.ofSOA); at >= 0 {
		rest := c.Pack(slices.Delete(slices.Clone(list), at, at+1), live.Without(list[at].Key()))
		return append(rest, Batch{Steps: List{list[at]}})
	}
	if len(list) == 0 {
		return nil
	}
	if c.Granularity == ByZone {
		return []Batch{{Steps: list, Result: list.Apply(live), Base: live}}
	}
	units := c.units(list)
	order(units, list, live)
	if len(units) == 0 {
		return nil
	}
	if c.BatchSize == 0 {
		return []Batch{batchOf(inOrder(units))}
	}
	bins := fill(units, c.BatchSize)
	if len(units) <= mostExact && len(bins) > leastBins(units, c.BatchSize) {
		bins = exact(units, c.BatchSize)
	}
	batches := make([]Batch, len(bins))
	for i, bin := range bins {
		batches[i] = batchOf(bin)
	}
	return batches
}

// mostExact is up to how many units the fewest requests are searched for.
const mostExact = 10

// unit is work that is done in one request.
type unit struct {
	steps List
	ops   []Op
	cost  int
	place int   // in the list
	after []int // places of units that come before it, or with it
	level int   // length of the longest chain of units before it
}

func batchOf(units []*unit) Batch {
	var b Batch
	for _, u := range units {
		b.Steps = append(b.Steps, u.steps...)
		b.Ops = append(b.Ops, u.ops...)
	}
	return b
}

// units divides a list: steps of a name that make room for each other stay together as long as one request holds them.
func (c Caps) units(list List) (units []*unit) {
	add := func(parts []List) {
		for i, steps := range parts {
			u := &unit{steps: steps, cost: len(steps), place: len(units)}
			if c.Granularity == ByRecord {
				for _, s := range steps {
					u.ops = append(u.ops, s.Ops()...)
				}
				u.cost = len(u.ops)
			}
			if u.cost == 0 { // nothing differs, record by record
				continue
			}
			if i > 0 {
				u.after = append(u.after, u.place-1)
			}
			units = append(units, u)
		}
	}
	for start := 0; start < len(list); {
		end := start + 1
		for end < len(list) && list[end].Key().Name == list[start].Key().Name {
			end++
		}
		if group := list[start:end]; swaps(group) {
			add(c.cutSwap(group))
		} else {
			for _, s := range group {
				add(c.divide(s))
			}
		}
		start = end
	}
	return units
}

// divide returns a step in parts that one request can hold.
func (c Caps) divide(s Step) (parts []List) {
	if c.Granularity != ByRecord || c.BatchSize == 0 {
		return []List{{s}}
	}
	for _, step := range s.part(c.BatchSize) {
		parts = append(parts, List{step})
	}
	return parts
}

// cutSwap divides steps of one name that must keep their order so that each part fits one request. The CNAME and one of
// the sets that make room for it, or that it makes room for, stay together: the name is then never without data between
// two requests, where a request can hold two sets at all. It relies on the order that core/diff gives the steps of a name
// (removalsFirst): what goes stands before what comes.
func (c Caps) cutSwap(group List) (parts []List) {
	cost := func(l List) (n int) {
		for _, s := range l {
			if c.Granularity == ByRecord {
				n += len(s.Ops())
			} else {
				n++
			}
		}
		return n
	}
	if c.BatchSize == 0 || cost(group) <= c.BatchSize {
		return []List{group}
	}
	var single List // steps that one request can hold
	for _, s := range group {
		for _, part := range c.divide(s) {
			single = append(single, part...)
		}
	}
	last := single[len(single)-1]
	fromEnd := last.Key().Type == record.CNAME && !last.After.IsZero() // a CNAME that is put comes last: cut from the end
	for len(single) > 0 {
		n := 1
		if fromEnd {
			for n < len(single) && cost(single[len(single)-n-1:]) <= c.BatchSize {
				n++
			}
			parts = append([]List{single[len(single)-n:]}, parts...)
			single = single[:len(single)-n]
			continue
		}
		for n < len(single) && cost(single[:n+1]) <= c.BatchSize {
			n++
		}
		parts = append(parts, single[:n])
		single = single[n:]
	}
	return parts
}

// swaps reports whether something at the group's name goes to make room for something else.
func swaps(group List) bool {
	for i, s := range group {
		for _, other := range group[i+1:] {
			if record.Collide(s.Key().Type, other.Key().Type) {
				return true
			}
		}
	}
	return false
}

// order returns which units come before which: a name that is not there yet comes wholly before what will lead to it, and a
// name that will not be there goes after what led to it.
func order(units []*unit, list List, live record.Contents) {
	at := map[dnsname.Name][]*unit{}
	for _, u := range units {
		name := u.steps[0].Key().Name
		at[name] = append(at[name], u)
	}
	comes, goes := map[dnsname.Name]bool{}, map[dnsname.Name]bool{}
	for name, own := range at {
		before, after := len(live.At(name)), len(live.At(name))
		for _, u := range own {
			for _, s := range u.steps {
				after += len(s.After.Data) - len(s.Before.Data)
			}
		}
		comes[name], goes[name] = before == 0, after <= 0
	}
	for _, s := range list {
		typ := s.Key().Type
		for _, d := range onlyIn(s.After, s.Before) {
			if target := d.Target(typ); comes[target] {
				link(at[target], at[s.Key().Name], s)
			}
		}
		for _, d := range onlyIn(s.Before, s.After) {
			if target := d.Target(typ); goes[target] {
				for _, last := range at[target] {
					for _, u := range at[s.Key().Name] {
						if u != last && u.about(s) {
							last.after = append(last.after, u.place)
						}
					}
				}
			}
		}
	}
	for range units { // the longest chains settle in as many rounds; a circle never does, and is cut
		moved := false
		for _, u := range units {
			for _, before := range u.after {
				if level := units[before].level + 1; level > u.level {
					u.level, moved = level, true
				}
			}
		}
		if !moved {
			return
		}
	}
	for _, u := range units {
		u.after, u.level = slices.DeleteFunc(u.after, func(before int) bool { return before >= u.place }), 0
	}
}

// link puts the units of a name before those of another that do a step.
func link(first, then []*unit, s Step) {
	for _, u := range then {
		for _, before := range first {
			if u != before && u.about(s) {
				u.after = append(u.after, before.place)
			}
		}
	}
}

// about reports whether a unit does a step, or a part of it.
func (u *unit) about(s Step) bool {
	return slices.ContainsFunc(u.steps, func(part Step) bool { return part.Key() == s.Key() })
}

// onlyIn returns the data that one set has and another has not.
func onlyIn(a, b record.Set) (list []record.Data) {
	for _, d := range a.Data {
		if !slices.Contains(b.Data, d) {
			list = append(list, d)
		}
	}
	return list
}

// inOrder returns the units so that each comes after those that it needs.
func inOrder(units []*unit) []*unit {
	sorted := slices.Clone(units)
	slices.SortStableFunc(sorted, func(a, b *unit) int { return a.level - b.level })
	return sorted
}

// mostOpen is how many requests with room left are kept in mind at a time.
const mostOpen = 64

// fill puts each unit into the first request that has room for it and is not before one that it needs.
func fill(units []*unit, size int) (bins [][]*unit) {
	in := make([]int, len(units))
	var room []int
	first := 0
	sorted := slices.Clone(units)
	slices.SortStableFunc(sorted, func(a, b *unit) int { return a.level - b.level })
	for _, u := range sorted {
		from := first
		for _, before := range u.after {
			from = max(from, in[before])
		}
		at := from
		for at < len(bins) && room[at] < u.cost {
			at++
		}
		if at == len(bins) {
			bins, room = append(bins, nil), append(room, size)
		}
		bins[at] = append(bins[at], u)
		room[at] -= u.cost
		in[u.place] = at
		for first < len(bins) && (room[first] <= 0 || len(bins)-first > mostOpen) {
			first++
		}
	}
	return bins
}

// leastBins is a number of requests that no packing can go below.
func leastBins(units []*unit, size int) int {
	total := 0
	for _, u := range units {
		total += u.cost
	}
	return (total + size - 1) / size
}

// exact searches for the fewest requests, from the sets of units that can be done after each number of them.
func exact(units []*unit, size int) [][]*unit {
	n := len(units)
	needs, cost := make([]uint, n), make([]int, 1<<n)
	for i, u := range units {
		for _, before := range u.after {
			needs[i] |= 1 << before
		}
	}
	for set := 1; set < 1<<n; set++ {
		low := bits.TrailingZeros(uint(set))
		cost[set] = cost[set&(set-1)] + units[low].cost
	}
	const never = 1 << 30
	least, first := make([]int, 1<<n), make([]int, 1<<n) // by what is done already
	full := 1<<n - 1
	for done := full - 1; done >= 0; done-- {
		least[done] = never
		rest := full &^ done
		for batch := rest; batch > 0; batch = (batch - 1) & rest {
			if cost[batch] > size && batch&(batch-1) != 0 {
				continue
			}
			if least[done|batch]+1 < least[done] && allowed(needs, uint(batch), uint(done|batch)) {
				least[done], first[done] = least[done|batch]+1, batch
			}
		}
	}
	var bins [][]*unit
	for done := 0; done != full; done |= first[done] {
		var bin []*unit
		for _, u := range units {
			if first[done]&(1<<u.place) != 0 {
				bin = append(bin, u)
			}
		}
		slices.SortStableFunc(bin, func(a, b *unit) int { return a.level - b.level })
		bins = append(bins, bin)
	}
	return bins
}

// allowed reports whether everything that the units of a batch need is done with it.
func allowed(needs []uint, batch, done uint) bool {
	for rest := batch; rest > 0; rest &= rest - 1 {
		if needs[bits.TrailingZeros(rest)]&^done != 0 {
			return false
		}
	}
	return true
}
