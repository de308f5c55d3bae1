package change

import "beacon/core/record"

// OpVerb is what is done to one record.
type OpVerb string

// A record is made, changed in place, or removed.
const (
	Create OpVerb = "create"
	Update OpVerb = "update"
	Delete OpVerb = "delete"
)

// Op changes one record, for providers that write single records.
type Op struct {
	Verb       OpVerb
	Before     record.Record // zero with Create
	After      record.Record // zero with Delete
	Attributes map[string]string
}

// Ops returns the fewest changes of single records that do the step: a record that goes and one that comes are one
// change in place.
func (s Step) Ops() (list []Op) {
	if s.ops != nil {
		return s.ops
	}
	before := map[record.Data]bool{}
	for _, d := range s.Before.Data {
		before[d] = true
	}
	var comes []record.Record
	for _, r := range s.After.Records() {
		if !before[r.Data] {
			comes = append(comes, r)
			continue
		}
		delete(before, r.Data)
		if s.Before.TTL != s.After.TTL || len(s.Attributes) > 0 {
			was := r
			was.TTL = s.Before.TTL
			list = append(list, Op{Update, was, r, s.Attributes})
		}
	}
	for _, was := range s.Before.Records() {
		switch {
		case !before[was.Data]:
		case len(comes) > 0:
			list = append(list, Op{Update, was, comes[0], s.Attributes})
			comes = comes[1:]
		default:
			list = append(list, Op{Verb: Delete, Before: was})
		}
	}
	for _, r := range comes {
		list = append(list, Op{Verb: Create, After: r, Attributes: s.Attributes})
	}
	return list
}

// part divides a step into steps of at most size single changes, each from where the last one left off.
func (s Step) part(size int) (steps List) {
	all := s.Ops()
	if len(all) <= size {
		return List{s}
	}
	was, state := s.Before, s.Before.Records()
	for len(all) > 0 {
		n := min(size, len(all))
		for _, op := range all[:n] {
			state = op.apply(state)
		}
		next := setOf(s.Key(), state)
		steps = append(steps, Step{Before: was, After: next, Reason: s.Reason, Attributes: s.Attributes, ops: all[:n]})
		was, all = next, all[n:]
	}
	return steps
}

func setOf(key record.Key, records []record.Record) record.Set {
	return record.NewContents(records).Get(key)
}

// apply does one change to a list of records.
func (o Op) apply(records []record.Record) (out []record.Record) {
	for _, r := range records {
		if o.Verb == Create || r.Data != o.Before.Data {
			out = append(out, r)
		}
	}
	if o.Verb != Delete {
		out = append(out, o.After)
	}
	return out
}
