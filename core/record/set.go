package record

import (
	"fmt"
	"slices"
	"strings"

	"beacon/core/dnsname"
)

// Set is a record set: one name, one type, one TTL, data sorted and without repetition.
// The zero value means "no such set".
type Set struct {
	Name dnsname.Name `json:"name"`
	Type Type         `json:"type"`
	TTL  uint32       `json:"ttl"` // seconds
	Data []Data       `json:"data"`
}

// NewSet makes a set from data in any order.
func NewSet(name dnsname.Name, t Type, ttl uint32, data ...Data) Set {
	sorted := slices.Clone(data)
	slices.Sort(sorted)
	return Set{name, t, ttl, slices.Compact(sorted)}
}

// ParseSet makes a set from data in presentation form.
func ParseSet(name dnsname.Name, t Type, ttl uint32, texts []string) (Set, error) {
	if len(texts) == 0 {
		return Set{}, fmt.Errorf("record set %s %s has no data", name, t)
	}
	data := make([]Data, 0, len(texts))
	for _, text := range texts {
		d, err := ParseData(t, text, name)
		if err != nil {
			return Set{}, fmt.Errorf("record set %s %s: %w", name, t, err)
		}
		data = append(data, d)
	}
	return NewSet(name, t, ttl, data...), nil
}

// IsZero reports whether s stands for "no such set".
func (s Set) IsZero() bool { return len(s.Data) == 0 }

// Key is the set's name and type.
func (s Set) Key() Key { return Key{s.Name, s.Type} }

// Equal reports whether both sets say the same, TTL included. Two absent sets are equal.
func (s Set) Equal(o Set) bool {
	if s.IsZero() || o.IsZero() {
		return s.IsZero() && o.IsZero()
	}
	return s.Key() == o.Key() && s.TTL == o.TTL && slices.Equal(s.Data, o.Data)
}

// SameData reports whether both sets hold the same data, whatever their TTLs.
func (s Set) SameData(o Set) bool { return slices.Equal(s.Data, o.Data) }

// Records spreads the set out into records.
func (s Set) Records() []Record {
	records := make([]Record, len(s.Data))
	for i, d := range s.Data {
		records[i] = Record{s.Name, s.TTL, s.Type, d}
	}
	return records
}

// String prints the set on one line: TTL and data, the name and type in front.
func (s Set) String() string {
	if s.IsZero() {
		return "(none)"
	}
	texts := make([]string, len(s.Data))
	for i, d := range s.Data {
		texts[i] = string(d)
	}
	return fmt.Sprintf("%s %d %s", s.Key(), s.TTL, strings.Join(texts, " | "))
}
