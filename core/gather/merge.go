package gather

import (
	"cmp"
	"slices"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// Gathered is a record set, and which sources have it as it is.
type Gathered struct {
	Set  record.Set
	From []int // by their places in the list of sources
}

// Outcome is one zone made of all sources.
type Outcome struct {
	Sources []Source
	Base    int // the source that is believed where others differ, since it is complete; -1 where none is
	Sets    []Gathered
	Left    []record.Record // what belongs to the provider that serves the zone, and stays behind
	Doubts  []Doubt
	Claim   Claim // of the whole
}

// rank orders the kinds of sources, the surest first.
var rank = map[Kind]int{FromAccount: 0, FromTransfer: 1, FromWalk: 2, FromFile: 3, FromAsking: 4}

// Merge makes one zone of what several sources have. A complete source is believed alone: what only others have, or have otherwise, is a doubt. Where none is complete, a
// set is taken from the surest source that has it.
func Merge(zone dnsname.Name, sources []Source) (out Outcome) {
	out = Outcome{Sources: slices.Clone(sources), Base: -1, Claim: Unknown}
	slices.SortStableFunc(out.Sources, func(x, y Source) int { return cmp.Compare(rank[x.Kind], rank[y.Kind]) })
	for i, s := range out.Sources {
		if s.Claim == Complete && (s.Kind != FromFile || !slices.ContainsFunc(out.Sources, func(o Source) bool { return o.Claim == Complete && o.Kind != FromFile })) {
			out.Base, out.Claim = i, Complete
			break
		}
	}
	sets := map[record.Key]Gathered{}
	for i, s := range out.Sources {
		for _, d := range s.Doubts {
			d.From = s.Name
			out.doubt(d)
		}
		for set := range s.Contents.Sets() {
			k := set.Key()
			if Plumbing(zone, k) {
				for _, r := range set.Records() {
					if !slices.Contains(out.Left, r) {
						out.Left = append(out.Left, r)
					}
				}
				continue
			}
			have, there := sets[k]
			d := Doubt{Key: k, TTL: set.TTL, Data: set.Data, From: s.Name}
			switch {
			case there && sameTexts(have.Set, set):
				have.From = append(have.From, i)
				sets[k] = have
			case there:
				d.Kind = Differs
				if s.Kind == FromAsking && (k.Type == record.A || k.Type == record.AAAA || k.Type == record.CNAME) {
					d.Kind = Relayed
				}
				out.doubt(d)
			case out.Base >= 0 && i > out.Base:
				d.Kind = OnlyIn
				out.doubt(d)
			default:
				sets[k] = Gathered{Set: set, From: []int{i}}
			}
		}
	}
	for _, g := range sets {
		out.Sets = append(out.Sets, g)
	}
	slices.SortFunc(out.Sets, func(x, y Gathered) int { return x.Set.Key().Compare(y.Set.Key()) })
	slices.SortFunc(out.Left, record.Record.Compare)
	slices.SortFunc(out.Doubts, func(x, y Doubt) int {
		return cmp.Or(x.Key.Compare(y.Key), cmp.Compare(x.Kind, y.Kind), cmp.Compare(x.From, y.From))
	})
	return out
}

// sameTexts reports whether two sets have the same data, however their texts are split.
func sameTexts(a, b record.Set) bool {
	whole := func(s record.Set) record.Set {
		data := make([]record.Data, len(s.Data))
		for i, d := range s.Data {
			data[i] = record.OneText(s.Type, d)
		}
		return record.NewSet(s.Name, s.Type, s.TTL, data...)
	}
	return a.SameData(b) || a.Type == record.TXT && whole(a).SameData(whole(b))
}

// doubt adds a doubt, once for a set and kind. What a lesser source sees vary or count down needs no decision where a complete one has the set.
func (o *Outcome) doubt(d Doubt) {
	if o.Base >= 0 && d.From != o.Sources[o.Base].Name && d.Kind != ChildZone && d.Kind.Open() {
		if have := o.Sources[o.Base].Contents.Get(d.Key); !have.IsZero() || d.Kind == EveryName {
			d.Kind = Relayed
		}
	}
	if !slices.ContainsFunc(o.Doubts, func(x Doubt) bool { return x.Key == d.Key && x.Kind == d.Kind }) {
		o.Doubts = append(o.Doubts, d)
	}
}

// Choice is what a user decides about a set that is in doubt.
type Choice string

// The choices. The target of an alias comes with it.
const (
	Keep  Choice = "keep"  // with the data that were seen
	Leave Choice = "leave" // out of the zone
	Alias Choice = "alias" // a record ALIAS, or CNAME below the apex, in its place
)

// Decision is a choice about one doubt.
type Decision struct {
	Key    record.Key
	Choice Choice
	Target dnsname.Name // of an alias
}

// Undecided returns the doubts that need a decision and have none.
func (o Outcome) Undecided(decisions []Decision) []Doubt {
	return slices.DeleteFunc(slices.Clone(o.Doubts), func(d Doubt) bool {
		return !d.Kind.Open() || slices.ContainsFunc(decisions, func(c Decision) bool { return c.Key == d.Key })
	})
}

// Contents returns what the zone should contain, by what was gathered and decided.
func (o Outcome) Contents(zone dnsname.Name, decisions []Decision) record.Contents {
	var sets []record.Set
	for _, g := range o.Sets {
		sets = append(sets, g.Set)
	}
	c := record.ContentsOf(sets...)
	for _, d := range decisions {
		at := slices.IndexFunc(o.Doubts, func(x Doubt) bool { return x.Key == d.Key })
		if at < 0 {
			continue
		}
		seen := o.Doubts[at]
		switch d.Choice {
		case Keep:
			c = c.With(record.NewSet(d.Key.Name, d.Key.Type, seen.TTL, seen.Data...))
		case Leave:
			c = c.Without(d.Key)
		case Alias:
			c = c.Without(record.Key{Name: d.Key.Name, Type: record.A}, record.Key{Name: d.Key.Name, Type: record.AAAA})
			t := record.CNAME
			if len(c.At(d.Key.Name)) > 0 || d.Key.Name == zone {
				t = record.ALIAS
			}
			c = c.With(record.NewSet(d.Key.Name, t, max(seen.TTL, 60), record.Data(d.Target.String())))
		}
	}
	return c
}
