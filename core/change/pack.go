package change

import "beacon/core/record"

// Batch is what one request carries.
type Batch struct {
	Steps List
	// Result is the whole zone after the batch, for providers that take nothing less (ByZone); else empty.
	Result record.Contents
	// Mark is the change mark of the read that the batch was made from; empty where the provider has none.
	Mark string
}

// Pack divides a list into batches for a provider that now holds live. Steps at one name where something is removed
// to make room stay together in their order, so that no name is without an answer between two requests.
func (c Caps) Pack(list List, live record.Contents) []Batch {
	if len(list) == 0 {
		return nil
	}
	if c.Granularity == ByZone {
		return []Batch{{Steps: list, Result: list.Apply(live)}}
	}
	if c.BatchSize == 0 {
		return []Batch{{Steps: list}}
	}
	var batches []Batch
	for start := 0; start < len(list); {
		end := start + 1
		for end < len(list) && list[end].Key().Name == list[start].Key().Name {
			end++
		}
		if group := list[start:end]; swaps(group) {
			batches = placeInOrder(batches, group, c.BatchSize)
		} else {
			for i := range group {
				batches = place(batches, group[i:i+1], c.BatchSize)
			}
		}
		start = end
	}
	return batches
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

// placeInOrder places steps that must keep their order. Where they do not fit one request they are cut so that the
// CNAME and one of the sets that make room for it, or that it makes room for, stay together: the name is then never
// without data between two requests.
func placeInOrder(batches []Batch, group List, size int) []Batch {
	if len(group) <= size {
		return place(batches, group, size)
	}
	first := size
	if last := group[len(group)-1]; last.Key().Type == record.CNAME && len(group)%size > 0 {
		first = len(group) % size // a CNAME that is put comes last: cut from the end
	}
	for len(group) > 0 {
		batches = append(batches, Batch{Steps: append(List(nil), group[:first]...)})
		group = group[first:]
		first = min(size, len(group))
	}
	return batches
}

// place puts a group into the first of the last few batches with room for it, or opens a new one.
func place(batches []Batch, group List, size int) []Batch {
	for i := max(0, len(batches)-4); i < len(batches); i++ {
		if len(batches[i].Steps)+len(group) <= size {
			batches[i].Steps = append(batches[i].Steps, group...)
			return batches
		}
	}
	return append(batches, Batch{Steps: append(List(nil), group...)})
}
