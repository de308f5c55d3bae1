package change

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"beacon/core/finding"
	"beacon/core/record"
)

// Attributed adds to a list what makes named attributes of sets what they are declared to be, for a provider that knows
// them: to steps that put such a set, and as steps of their own where only an attribute differs. wanted is as the provider
// can hold it. Attributes that the provider does not know are told of.
func (c Caps) Attributed(list List, declared map[record.Key]map[string]string, wanted, live record.Contents, details Details) (List, []finding.Finding) {
	if len(declared) == 0 {
		return list, nil
	}
	out, at := slices.Clone(list), map[record.Key]int{}
	for i, s := range out {
		at[s.Key()] = i
	}
	var unknown []string
	for _, key := range slices.SortedFunc(maps.Keys(declared), record.Key.Compare) {
		known := map[string]string{}
		for name, value := range declared[key] {
			if _, ok := c.ExtraNamed(name); ok {
				known[name] = value
			} else if !slices.Contains(unknown, name) {
				unknown = append(unknown, name)
			}
		}
		set := wanted.Get(key)
		if len(known) == 0 || set.IsZero() {
			continue
		}
		if i, ok := at[key]; ok {
			if !out[i].After.IsZero() {
				out[i].Attributes = known
			}
			continue
		}
		var differ []string
		for name, value := range known {
			if details[key].Attributes[name] != value {
				differ = append(differ, fmt.Sprintf("%s=%s", name, value))
			}
		}
		if now := live.Get(key); len(differ) > 0 && now.Equal(set) {
			slices.Sort(differ)
			out = append(out, Step{Before: now, After: set, Attributes: known, Reason: "declared: " + strings.Join(differ, ", ")})
		}
	}
	slices.SortStableFunc(out, func(a, b Step) int { return a.Key().Name.Compare(b.Key().Name) })
	if len(unknown) == 0 {
		return out, nil
	}
	slices.Sort(unknown)
	return out, []finding.Finding{{Code: "extra-not-known", Severity: finding.Notice, Subject: strings.Join(unknown, ", "),
		Message: "Attributes are declared that this provider does not know: " + strings.Join(unknown, ", ") + ".",
		Remedy:  "Nothing to do, if they are meant for another placement; else look at what it knows: beacon provider show."}}
}

// Gaps marks the steps of names that the provider leaves without an answer for a moment, because it does the removal and
// what takes its place one after the other. Someone is told beforehand.
func (c Caps) Gaps(list List) (List, []finding.Finding) {
	if c.Atomic && c.BatchSize != 1 || c.Granularity == ByZone {
		return list, nil
	}
	out := slices.Clone(list)
	var names []string
	for start := 0; start < len(out); {
		end := start + 1
		for end < len(out) && out[end].Key().Name == out[start].Key().Name {
			end++
		}
		if swaps(out[start:end]) {
			for i := start; i < end; i++ {
				out[i].Gap = true
			}
			names = append(names, out[start].Key().Name.Unicode())
		}
		start = end
	}
	if len(names) == 0 {
		return list, nil
	}
	return out, []finding.Finding{{Code: "brief-outage", Severity: finding.Warning, Subject: names[0],
		Message: "This provider cannot put one kind of record in place of another in one go; without an answer for a moment: " + some(names) + ".",
		Remedy:  "Nothing to do, if a moment is harmless; resolvers that ask in it may keep \"nothing there\" for the zone's negative TTL. Else choose a quiet hour."}}
}
