package change

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"maps"
	"slices"

	"beacon/core/record"
)

// Step changes one record set from Before to After. Either may be absent, not both.
type Step struct {
	Before     record.Set        `json:"before"`
	After      record.Set        `json:"after"`
	Reason     string            `json:"reason"`
	Attributes map[string]string `json:"attributes,omitempty"` // named attributes of the set afterwards; the others stay
	Gap        bool              `json:"gap,omitempty"`        // the name is without an answer for a moment, as the provider forces it

	ops []Op // of a part of a step: its sets alone do not tell, since a set has one TTL
}

// Key is the set that the step changes.
func (s Step) Key() record.Key {
	if s.After.IsZero() {
		return s.Before.Key()
	}
	return s.After.Key()
}

// Between reports whether a set holds nothing but what the step takes away or brings: the step was stopped inside.
func (s Step) Between(now record.Set) bool {
	for _, d := range now.Data {
		if !slices.Contains(s.Before.Data, d) && !slices.Contains(s.After.Data, d) {
			return false
		}
	}
	return !now.IsZero()
}

// Verb is what the step does: "add", "change" or "remove".
func (s Step) Verb() string {
	switch {
	case s.Before.IsZero():
		return "add"
	case s.After.IsZero():
		return "remove"
	}
	return "change"
}

// List is an ordered change list.
type List []Step

// Of returns the steps from one contents to another, in the order of their keys.
func Of(before, after record.Contents) List {
	var list List
	for set := range before.Sets() {
		if now := after.Get(set.Key()); !now.Equal(set) {
			list = append(list, Step{Before: set, After: now})
		}
	}
	for set := range after.Sets() {
		if before.Get(set.Key()).IsZero() {
			list = append(list, Step{After: set})
		}
	}
	slices.SortFunc(list, func(a, b Step) int { return a.Key().Compare(b.Key()) })
	return list
}

// Apply returns what contents become when every step is done.
func (l List) Apply(c record.Contents) record.Contents {
	var puts []record.Set
	var gone []record.Key
	for _, s := range l {
		if s.After.IsZero() {
			gone = append(gone, s.Key())
		} else {
			puts = append(puts, s.After)
		}
	}
	return c.Without(gone...).With(puts...)
}

// Count returns how many steps add, change and remove.
func (l List) Count() (add, change, remove int) {
	for _, s := range l {
		switch s.Verb() {
		case "add":
			add++
		case "remove":
			remove++
		default:
			change++
		}
	}
	return
}

// Digest identifies what the list does: equal lists have equal digests, whatever their reasons.
func (l List) Digest() string {
	h := sha256.New()
	for _, s := range l {
		writeSet(h, s.Before)
		writeSet(h, s.After)
		for _, name := range slices.Sorted(maps.Keys(s.Attributes)) {
			fmt.Fprintf(h, "%q=%q\x00", name, s.Attributes[name])
		}
	}
	return hex.EncodeToString(h.Sum(nil)[:12])
}

// FingerprintOf identifies the state of several sets, absent ones included, in the given order.
func FingerprintOf(sets ...record.Set) string {
	h := sha256.New()
	for _, s := range sets {
		writeSet(h, s)
	}
	return hex.EncodeToString(h.Sum(nil)[:12])
}

func writeSet(w io.Writer, s record.Set) { fmt.Fprintf(w, "%s\x00", s) }
