package record

import (
	"cmp"
	"encoding/binary"
	"iter"
	"slices"
	"sort"
	"strings"

	"beacon/core/dnsname"

	"github.com/miekg/dns"
)

// Contents is what a zone holds: records sorted by name, type and data, without repetition, with one TTL a set.
// It is a value: nothing changes it after construction, so it may be shared. The zero value is an empty zone.
type Contents struct{ records []Record }

// NewContents sorts records and takes out repetitions. Where the TTLs of one set differ, the least one holds
// (RFC 2181 section 5.2 has them equal; caches would go by the least). Signatures have the TTL of the set that they cover
// (RFC 4034 section 3), so each covered type is a run of its own. It may keep the slice it is given.
func NewContents(records []Record) Contents {
	leastFirst := func(a, b Record) int { return cmp.Or(a.Compare(b), cmp.Compare(a.TTL, b.TTL)) }
	if !slices.IsSortedFunc(records, leastFirst) {
		records = sorted(records, leastFirst)
		gather(records)
	}
	records = slices.CompactFunc(records, func(a, b Record) bool { return a.Compare(b) == 0 })
	for start := 0; start < len(records); {
		end := EndOfSet(records, start)
		if records[start].Type == Type(dns.TypeRRSIG) {
			end = endOfCovered(records[:end], start)
		}
		least := records[start].TTL
		for _, r := range records[start:end] {
			least = min(least, r.TTL)
		}
		for i := start; i < end; i++ {
			records[i].TTL = least
		}
		start = end
	}
	return Contents{records}
}

// endOfCovered returns the index behind the last signature over the type that the one at start covers.
func endOfCovered(signatures []Record, start int) int {
	covered, _, _ := strings.Cut(string(signatures[start].Data), " ")
	end := start + 1
	for end < len(signatures) && strings.HasPrefix(string(signatures[end].Data), covered+" ") {
		end++
	}
	return end
}

// keyed is a record's place with the beginning of its name as a number.
type keyed struct {
	key uint64
	at  uint32
}

// sorted sorts records. Names of one zone begin with the same octets; of many records, those that follow are compared as one
// number, and the rest only where they are equal.
func sorted(records []Record, compare func(a, b Record) int) []Record {
	const few = 512
	if len(records) < few || len(records) > 1<<31 {
		slices.SortFunc(records, compare)
		return records
	}
	same := records[0].Name.Key()
	for _, r := range records {
		same = same[:common(same, r.Name.Key())]
	}
	keys := make([]keyed, len(records))
	for i, r := range records {
		var begin [8]byte
		copy(begin[:], r.Name.Key()[len(same):])
		keys[i] = keyed{binary.BigEndian.Uint64(begin[:]), uint32(i)}
	}
	slices.SortFunc(keys, func(a, b keyed) int {
		if a.key != b.key {
			return cmp.Compare(a.key, b.key)
		}
		return compare(records[a.at], records[b.at])
	})
	out := make([]Record, len(records))
	for i, k := range keys {
		out[i] = records[k.at]
	}
	return out
}

// common returns how many octets two texts have in common at their beginning.
func common(a, b string) int {
	n := min(len(a), len(b))
	for i := range n {
		if a[i] != b[i] {
			return i
		}
	}
	return n
}

// gather moves the texts of sorted records into one block in their order, so that walking them reads memory forwards:
// comparing a million records is then bound by bandwidth, not by cache misses. It pays from some thousand records on.
func gather(records []Record) {
	if len(records) < 4096 {
		return
	}
	size := 0
	for _, r := range records {
		size += len(r.Name.Key()) + len(r.Data)
	}
	block := make([]byte, 0, size)
	for _, r := range records {
		block = append(append(block, r.Name.Key()...), r.Data...)
	}
	text, at := string(block), 0
	cut := func(n int) string {
		at += n
		return text[at-n : at]
	}
	for i, r := range records {
		records[i].Name = dnsname.FromKey(cut(len(r.Name.Key())))
		records[i].Data = Data(cut(len(r.Data)))
	}
}

// ContentsOf builds contents from sets, which may come in any order.
func ContentsOf(sets ...Set) Contents {
	var records []Record
	for _, s := range sets {
		records = append(records, s.Records()...)
	}
	return NewContents(records)
}

// EndOfSet returns the index behind the last record of the set that begins at start, in sorted records.
func EndOfSet(records []Record, start int) int {
	end := start + 1
	for end < len(records) && records[end].Type == records[start].Type && records[end].Name == records[start].Name {
		end++
	}
	return end
}

// Records returns all records in order. The slice is shared: do not change it.
func (c Contents) Records() []Record { return c.records }

// Len counts the records.
func (c Contents) Len() int { return len(c.records) }

// Sets walks the record sets in order.
func (c Contents) Sets() iter.Seq[Set] {
	return func(yield func(Set) bool) {
		for start := 0; start < len(c.records); {
			end := EndOfSet(c.records, start)
			if !yield(SetOf(c.records[start:end])) {
				return
			}
			start = end
		}
	}
}

// SetOf makes a Set of the records of one set, which must be sorted; of no records it makes the zero Set.
func SetOf(run []Record) Set {
	if len(run) == 0 {
		return Set{}
	}
	data := make([]Data, len(run))
	for i, r := range run {
		data[i] = r.Data
	}
	return Set{run[0].Name, run[0].Type, run[0].TTL, data}
}

// Get returns the set at key, or the zero Set.
func (c Contents) Get(key Key) Set {
	start, end := c.place(key)
	return SetOf(c.records[start:end])
}

// place returns where the records of a set begin and end.
func (c Contents) place(key Key) (start, end int) {
	start = sort.Search(len(c.records), func(i int) bool { return c.records[i].Key().Compare(key) >= 0 })
	if start == len(c.records) || c.records[start].Key() != key {
		return start, start
	}
	return start, EndOfSet(c.records, start)
}

// At returns all records of one name.
func (c Contents) At(name dnsname.Name) []Record {
	start := sort.Search(len(c.records), func(i int) bool { return c.records[i].Name.Compare(name) >= 0 })
	end := start
	for end < len(c.records) && c.records[end].Name == name {
		end++
	}
	return c.records[start:end]
}

// Among returns the part of the contents at some names.
func (c Contents) Among(names []dnsname.Name) Contents {
	var records []Record
	for _, n := range slices.SortedFunc(slices.Values(names), dnsname.Name.Compare) {
		if some := c.At(n); len(records) == 0 || len(some) == 0 || records[len(records)-1].Name != n {
			records = append(records, some...)
		}
	}
	return Contents{records}
}

// Filter returns the contents whose sets keep accepts.
func (c Contents) Filter(keep func(Key) bool) Contents {
	var kept []Record
	for start := 0; start < len(c.records); {
		end := EndOfSet(c.records, start)
		if keep(c.records[start].Key()) {
			kept = append(kept, c.records[start:end]...)
		}
		start = end
	}
	return Contents{kept}
}

// Map returns the contents with every set replaced by what change makes of it; a zero Set drops it.
func (c Contents) Map(change func(Set) Set) Contents {
	records := make([]Record, 0, len(c.records))
	for s := range c.Sets() {
		records = append(records, change(s).Records()...)
	}
	return NewContents(records)
}

// With returns the contents with the given sets put in place of those at the same keys.
func (c Contents) With(sets ...Set) Contents {
	if len(sets) == 0 {
		return c
	}
	keys := make([]Key, len(sets))
	var records []Record
	for i, s := range sets {
		keys[i] = s.Key()
		records = append(records, s.Records()...)
	}
	comes := NewContents(records).records
	rest := c.Without(keys...).records
	if len(comes) > len(rest)/8 {
		return NewContents(append(slices.Clone(rest), comes...))
	}
	out := make([]Record, 0, len(rest)+len(comes)) // what is between two that come is moved in one go
	for len(comes) > 0 {
		end := EndOfSet(comes, 0)
		at := sort.Search(len(rest), func(i int) bool { return rest[i].Key().Compare(comes[0].Key()) > 0 })
		out = append(append(out, rest[:at]...), comes[:end]...)
		rest, comes = rest[at:], comes[end:]
	}
	return Contents{append(out, rest...)}
}

// Without returns the contents less the sets at keys.
func (c Contents) Without(keys ...Key) Contents {
	type cut struct{ start, end int }
	cuts := make([]cut, 0, len(keys))
	gone := 0
	for _, k := range keys {
		if start, end := c.place(k); start < end {
			cuts = append(cuts, cut{start, end})
		}
	}
	slices.SortFunc(cuts, func(a, b cut) int { return cmp.Compare(a.start, b.start) })
	cuts = slices.Compact(cuts)
	for _, x := range cuts {
		gone += x.end - x.start
	}
	switch {
	case gone == 0:
		return c
	case gone == len(c.records):
		return Contents{}
	}
	kept, at := make([]Record, 0, len(c.records)-gone), 0
	for _, x := range cuts {
		kept, at = append(kept, c.records[at:x.start]...), x.end
	}
	return Contents{append(kept, c.records[at:]...)}
}

// Differ returns the part of two contents outside which they are the same: from start on, up to endBefore of these and endAfter of the others.
func (c Contents) Differ(o Contents) (start, endBefore, endAfter int) {
	a, b := c.records, o.records
	for start < len(a) && start < len(b) && a[start] == b[start] {
		start++
	}
	endBefore, endAfter = len(a), len(b)
	for endBefore > start && endAfter > start && a[endBefore-1] == b[endAfter-1] {
		endBefore, endAfter = endBefore-1, endAfter-1
	}
	return start, endBefore, endAfter
}

// Equal reports whether both hold exactly the same records, TTLs included.
func (c Contents) Equal(o Contents) bool { return slices.Equal(c.records, o.records) }

// Difference returns the records that only one of two contents has, in their order, and how many both have. A record whose
// TTL alone differs is in both lists.
func Difference(before, after Contents) (added, removed []Record, same int) {
	added, removed = []Record{}, []Record{}
	old, now := before.records, after.records
	for i, j := 0, 0; i < len(old) || j < len(now); {
		switch {
		case j == len(now) || i < len(old) && old[i].Compare(now[j]) < 0:
			removed = append(removed, old[i])
			i++
		case i == len(old) || old[i].Compare(now[j]) > 0:
			added = append(added, now[j])
			j++
		default:
			if old[i].TTL == now[j].TTL {
				same++
			} else {
				removed, added = append(removed, old[i]), append(added, now[j])
			}
			i, j = i+1, j+1
		}
	}
	return added, removed, same
}
