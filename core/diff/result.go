package diff

import (
	"fmt"

	"beacon/core/change"
	"beacon/core/record"
)

// Kind is what the comparison says of one record set.
type Kind uint8

// A set is in sync, ours to change, drifted (changed elsewhere), in conflict (changed here and elsewhere), or foreign
// (somebody else's from the start).
const (
	InSync Kind = iota
	Ours
	Drift
	Conflict
	Foreign
)

var kindNames = [...]string{"in-sync", "ours", "drift", "conflict", "foreign"}

func (k Kind) String() string { return kindNames[k] }

// MarshalText prints the kind's word.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads a kind's word.
func (k *Kind) UnmarshalText(text []byte) error {
	for i, name := range kindNames {
		if name == string(text) {
			*k = Kind(i)
			return nil
		}
	}
	return fmt.Errorf("%q is no kind of difference", text)
}

// Item is one set that is not in sync, as the three states have it.
type Item struct {
	Key    record.Key `json:"key"`
	Kind   Kind       `json:"kind"`
	Wanted record.Set `json:"wanted"`
	Placed record.Set `json:"placed"`
	Live   record.Set `json:"live"`
	Why    string     `json:"why"`
}

// DriftPolicy returns what becomes of sets that were changed elsewhere.
type DriftPolicy uint8

// Drift is left as it is until somebody decides, or put back to what is wanted. Where wanted wins, so are conflicts:
// that is for names that follow a reported address, where nobody is there to decide.
const (
	LeaveDrift DriftPolicy = iota
	RevertDrift
	WantedWins
)

// Only returns the part of a result that is about the keys that keep picks. What is in sync is not counted in it.
func (r Result) Only(keep func(record.Key) bool) Result {
	items := func(list []Item) (kept []Item) {
		for _, item := range list {
			if keep(item.Key) {
				kept = append(kept, item)
			}
		}
		return kept
	}
	out := Result{Drift: items(r.Drift), Conflicts: items(r.Conflicts), Foreign: items(r.Foreign)}
	for _, step := range r.Steps {
		if keep(step.Key()) {
			out.Steps = append(out.Steps, step)
		}
	}
	for _, set := range r.Arrived {
		if keep(set.Key()) {
			out.Arrived = append(out.Arrived, set)
		}
	}
	for _, key := range r.Forgotten {
		if keep(key) {
			out.Forgotten = append(out.Forgotten, key)
		}
	}
	return out
}

// KeepExisting returns the result for somebody who touches nothing that was there before: what the provider has and we never
// placed is left as foreign, though something else is wanted there.
func (r Result) KeepExisting() Result {
	var conflicts []Item
	for _, item := range r.Conflicts {
		if item.Placed.IsZero() {
			item.Kind, item.Why = Foreign, "was at the provider before; kept, although other records are desired"
			r.Foreign = append(r.Foreign, item)
			continue
		}
		conflicts = append(conflicts, item)
	}
	r.Conflicts = conflicts
	return r
}

// Result is the outcome of a comparison.
type Result struct {
	Steps     change.List
	Drift     []Item
	Conflicts []Item
	Foreign   []Item
	InSync    int          // sets that need nothing
	Arrived   []record.Set // in sync though not remembered as placed
	Forgotten []record.Key // remembered as placed, though neither wanted nor live
}
