package diff

import (
	"beacon/core/change"
	"beacon/core/record"
	"beacon/core/soa"
)

// Compare finds what differs. It walks the three sorted states once, and allocates for differences only.
func Compare(wanted, placed, live record.Contents, drift DriftPolicy) Result {
	c := comparison{policy: drift, live: live}
	w, p, l := run{all: wanted.Records()}, run{all: placed.Records()}, run{all: live.Records()}
	for w.more() || p.more() || l.more() {
		if skipEqual(&w, &p, &l, &c.result.InSync) {
			continue
		}
		key := leastKey(&w, &p, &l)
		c.judge(key, w.take(key), p.take(key), l.take(key))
	}
	c.holdCollisions()
	return c.result
}

// run walks the sets of one state.
type run struct {
	all []record.Record
	at  int
}

func (r *run) more() bool { return r.at < len(r.all) }

// take returns the records of the set at key, if it is the next one, and moves behind it.
func (r *run) take(key record.Key) []record.Record {
	if !r.more() || r.all[r.at].Type != key.Type || r.all[r.at].Name != key.Name {
		return nil
	}
	start := r.at
	r.at = record.EndOfSet(r.all, start)
	return r.all[start:r.at]
}

func leastKey(runs ...*run) record.Key {
	var least record.Key
	for _, r := range runs {
		if r.more() {
			if key := r.all[r.at].Key(); least.Name.IsZero() || key.Compare(least) < 0 {
				least = key
			}
		}
	}
	return least
}

// skipEqual moves all three behind the next set where they hold exactly the same: the common case, kept cheap.
func skipEqual(w, p, l *run, count *int) bool {
	if !w.more() || !p.more() || !l.more() {
		return false
	}
	end := record.EndOfSet(w.all, w.at)
	n := end - w.at
	if !sameRun(w.all[w.at:end], p, n) || !sameRun(w.all[w.at:end], l, n) {
		return false
	}
	w.at, p.at, l.at = end, p.at+n, l.at+n
	*count++
	return true
}

// sameRun reports whether the next set of r is exactly records.
func sameRun(records []record.Record, r *run, n int) bool {
	if r.at+n > len(r.all) {
		return false
	}
	for i := range n {
		if records[i] != r.all[r.at+i] {
			return false
		}
	}
	last := records[n-1]
	return r.at+n == len(r.all) || r.all[r.at+n].Type != last.Type || r.all[r.at+n].Name != last.Name
}

type comparison struct {
	policy DriftPolicy
	live   record.Contents
	result Result
}

func same(a, b []record.Record) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

// judge decides about one set. The cases are those of the table in the package's test.
func (c *comparison) judge(key record.Key, wanted, placed, live []record.Record) {
	res := &c.result
	item := func(kind Kind, why string) Item {
		return Item{key, kind, record.SetOf(wanted), record.SetOf(placed), record.SetOf(live), why}
	}
	step := func(reason string) {
		res.Steps = append(res.Steps, change.Step{Before: record.SetOf(live), After: record.SetOf(wanted), Reason: reason})
	}
	switch {
	case len(wanted) == 0 && len(live) == 0:
		res.Forgotten = append(res.Forgotten, key)
	case same(wanted, live):
		res.InSync++
		if !same(wanted, placed) {
			res.Arrived = append(res.Arrived, record.SetOf(wanted))
		}
	case len(wanted) == 0 && len(placed) == 0:
		res.Foreign = append(res.Foreign, item(Foreign, "not ours: it was made elsewhere"))
	case same(placed, live) && len(live) == 0:
		step("desired, and not there yet")
	case same(placed, live) && len(wanted) == 0:
		step("no longer desired")
	case same(placed, live) && key.Type == record.SOA:
		step(soa.Changes(record.SetOf(live), record.SetOf(wanted)))
	case same(placed, live):
		step("desired otherwise than placed")
	case same(wanted, placed):
		if c.policy != LeaveDrift {
			step("changed elsewhere; reverted")
			return
		}
		res.Drift = append(res.Drift, item(Drift, "changed elsewhere since we placed it"))
	case c.policy == WantedWins:
		step("changed elsewhere; the reported address is put there")
	case len(placed) == 0:
		res.Conflicts = append(res.Conflicts, item(Conflict, "the provider already has other data here that we never placed"))
	default:
		res.Conflicts = append(res.Conflicts, item(Conflict, "changed here and elsewhere since we placed it"))
	}
}

// holdCollisions turns all steps of a name into conflicts where something would collide with what stays there, such
// as a CNAME with a foreign record: half of such a change would take the answer away and put none in its place.
func (c *comparison) holdCollisions() {
	steps := c.result.Steps
	kept := steps[:0:0]
	for start := 0; start < len(steps); {
		end := start
		for end < len(steps) && steps[end].Key().Name == steps[start].Key().Name {
			end++
		}
		group := steps[start:end]
		if why := c.collision(group); why != "" {
			for _, s := range group {
				c.result.Conflicts = append(c.result.Conflicts, Item{s.Key(), Conflict, s.After, record.Set{}, s.Before, why})
			}
		} else {
			kept = append(kept, removalsFirst(group)...)
		}
		start = end
	}
	c.result.Steps = kept
}

func (c *comparison) collision(group change.List) string {
	name := group[0].Key().Name
	after := map[record.Type]bool{}
	for _, r := range c.live.At(name) {
		after[r.Type] = true
	}
	for _, s := range group {
		after[s.Key().Type] = !s.After.IsZero()
	}
	for _, s := range group {
		for other, there := range after {
			if there && !s.After.IsZero() && record.Collide(s.Key().Type, other) {
				return "collides with the " + other.String() + " records that stay at this name"
			}
		}
	}
	return ""
}

// removalsFirst orders the steps of one name so that what collides goes before what replaces it. cutSwap in core/change relies on
// this order where a swap has to be divided: a CNAME that is put is the last step of its name.
func removalsFirst(group change.List) change.List {
	ordered := make(change.List, 0, len(group))
	for _, removal := range []bool{true, false} {
		for _, s := range group {
			if s.After.IsZero() == removal {
				ordered = append(ordered, s)
			}
		}
	}
	return ordered
}
