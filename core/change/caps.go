// Package change says what a provider can do (Caps), what shall be done (Step, List), and in which requests (Pack).
//
// A step concerns one record set and carries it before and after, so that a step can be applied, checked and explained
// without anything else at hand. Nothing here talks to a provider.
package change

import (
	"fmt"
	"slices"
	"time"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// Granularity is the smallest thing that a provider's interface writes.
type Granularity uint8

// A provider writes record sets, single records, or the whole zone in one go.
const (
	BySet Granularity = iota
	ByRecord
	ByZone
)

var granularityNames = [...]string{"set", "record", "zone"}

func (g Granularity) String() string { return granularityNames[g] }

// MarshalText prints the word.
func (g Granularity) MarshalText() ([]byte, error) { return []byte(g.String()), nil }

// UnmarshalText reads the word.
func (g *Granularity) UnmarshalText(text []byte) error {
	i := slices.Index(granularityNames[:], string(text))
	*g = Granularity(max(i, 0))
	return known(i, "granularity", text)
}

func known(i int, what string, text []byte) error {
	if i < 0 {
		return fmt.Errorf("%q is no %s", text, what)
	}
	return nil
}

// TextForm is how a provider keeps the strings of a TXT record.
type TextForm uint8

// Strings are kept as they are written, or as one text of UTF-8 that is cut into strings of 255 octets when it is
// served, or as one string of at most 255 octets.
const (
	TextAsWritten TextForm = iota
	TextJoined
	TextSingle
)

var textFormNames = [...]string{"strings", "joined", "single"}

func (f TextForm) String() string { return textFormNames[f] }

// MarshalText prints the word.
func (f TextForm) MarshalText() ([]byte, error) { return []byte(f.String()), nil }

// UnmarshalText reads the word.
func (f *TextForm) UnmarshalText(text []byte) error {
	i := slices.Index(textFormNames[:], string(text))
	*f = TextForm(max(i, 0))
	return known(i, "form of texts", text)
}

// Caps is what a provider can do with one zone. Drivers state it; nothing else in the product asks which provider it is.
type Caps struct {
	Granularity Granularity   `json:"granularity"`
	BatchSize   int           `json:"batch_size"`           // most sets (BySet) or records (ByRecord) in one request; 0 for no limit
	Atomic      bool          `json:"atomic"`               // a request is done wholly or not at all
	PageSize    int           `json:"page_size"`            // records or sets in one page of a read; 0 for all
	TTLFloor    uint32        `json:"ttl_floor"`            // seconds; smaller TTLs are raised to it
	TTLCeiling  uint32        `json:"ttl_ceiling"`          // seconds; greater TTLs are lowered to it; 0 for none
	TTLSteps    []uint32      `json:"ttl_steps"`            // seconds, rising; other TTLs are raised to the next; empty for any
	Types       []record.Type `json:"types"`                // that can be held; empty for all
	Texts       TextForm      `json:"texts"`                // in which TXT records are kept
	TextMax     int           `json:"text_max,omitempty"`   // octets that one TXT record may have; 0 for no limit of its own
	NameMax     int           `json:"name_max,omitempty"`   // characters that an owner name may have, without final dot; 0 for no limit of its own
	Rate        float64       `json:"rate,omitempty"`       // requests a second that are allowed; 0 where it is not said
	Parallel    int           `json:"parallel,omitempty"`   // changes of different zones that may be under way at the same time; 0 where it is not said
	OwnsApex    bool          `json:"owns_apex"`            // SOA and apex NS are the provider's, not to be written
	ApexNS      bool          `json:"apex_ns"`              // with OwnsApex: the apex NS set can be written all the same, in place of the provider's own
	ApexAlias   bool          `json:"apex_alias"`           // the apex can have an ALIAS, which the provider keeps right itself
	Marks       bool          `json:"marks"`                // reads carry a change mark, and an unchanged zone costs one small read
	ByName      bool          `json:"by_name,omitempty"`    // the records at one name can be read by themselves
	Guarded     bool          `json:"guarded"`              // a write of a zone that has changed since it was read is refused
	GuardedSets bool          `json:"guarded_sets"`         // a write of a set that has changed since it was read is refused
	Overwrites  bool          `json:"overwrites,omitempty"` // a write replaces the whole zone without a condition: a change of another client at the same moment is lost
	Delayed     bool          `json:"delayed"`              // a write is first accepted, and done later
	ReadLag     time.Duration `json:"read_lag,omitempty"`   // after a write, reads may be this much behind
	CreateLag   time.Duration `json:"create_lag,omitempty"` // a new zone can be read and written only so much later
	Prefills    bool          `json:"prefills"`             // a new zone has records of the provider's making in it
	Another     bool          `json:"another,omitempty"`    // a zone can be made again, with nameservers of its own
	FixedZones  bool          `json:"fixed_zones"`          // zones are made and removed elsewhere, not through this interface
	Attributes  []Attribute   `json:"attributes,omitempty"` // what it keeps with a record set besides the records
	ToldTTL     uint32        `json:"told_ttl,omitempty"`   // of that set, seconds
	Told        []string      `json:"told,omitempty"`       // nameservers that the apex NS set names; empty where it is left to the provider
	SOA         []string      `json:"soa,omitempty"`        // fields of the SOA record that can be set, named as in soa.Fields; empty for none
}

// Pages returns in about how many pages a zone of so many records is read.
func (c Caps) Pages(records int) int {
	if c.PageSize == 0 || records == 0 {
		return 1
	}
	return 1 + (records-1)/c.PageSize
}

// Attribute is a named attribute that a provider keeps with a record set.
type Attribute struct {
	Name   string   `json:"name"`
	About  string   `json:"description,omitempty"`
	Values []string `json:"values,omitempty"` // which it can have; empty for any text
	Relay  string   `json:"relay,omitempty"`  // with this value the nameservers answer with something of the provider's own
}

// ExtraNamed finds an attribute by its name.
func (c Caps) ExtraNamed(name string) (Attribute, bool) {
	for _, e := range c.Attributes {
		if e.Name == name {
			return e, true
		}
	}
	return Attribute{}, false
}

// Relayed reports whether the nameservers answer with other data than was written, by design, for a set with these
// attributes.
func (c Caps) Relayed(attributes map[string]string) bool {
	for _, e := range c.Attributes {
		if e.Relay != "" && attributes[e.Name] == e.Relay {
			return true
		}
	}
	return false
}

// Owned reports whether the set at k belongs to the provider and not to us.
func (c Caps) Owned(zone dnsname.Name, k record.Key) bool {
	return c.OwnsApex && k.Name == zone && (k.Type == record.SOA || k.Type == record.NS && len(c.Told) == 0)
}

// Telling returns capabilities under which the apex NS set names these nameservers with a TTL in seconds, 0 for the usual one, where the provider lets it be written.
func (c Caps) Telling(nameservers []dnsname.Name, ttl uint32) Caps {
	if !c.ApexNS {
		return c
	}
	if c.ToldTTL = toldTTL; ttl > 0 {
		c.ToldTTL = ttl
	}
	for _, n := range nameservers {
		c.Told = append(c.Told, n.String())
	}
	return c
}

// toldTTL is the TTL of an apex NS set that names other nameservers, in seconds.
const toldTTL = 3600

// told adds the apex NS set that is to be written.
func (c Caps) told(zone dnsname.Name, wanted record.Contents) record.Contents {
	if len(c.Told) == 0 {
		return wanted
	}
	data := make([]record.Data, len(c.Told))
	for i, n := range c.Told {
		data[i] = record.Data(n)
	}
	return wanted.With(record.NewSet(zone, record.NS, c.ToldTTL, data...))
}

// Holds reports whether records of a type can be kept there.
func (c Caps) Holds(t record.Type) bool { return len(c.Types) == 0 || slices.Contains(c.Types, t) }

// TTL returns the TTL that the provider makes of one, in seconds.
func (c Caps) TTL(ttl uint32) uint32 {
	ttl = max(ttl, c.TTLFloor)
	if c.TTLCeiling > 0 {
		ttl = min(ttl, c.TTLCeiling)
	}
	for _, step := range c.TTLSteps {
		if ttl <= step {
			return step
		}
	}
	if n := len(c.TTLSteps); n > 0 {
		return c.TTLSteps[n-1]
	}
	return ttl
}

// Detail is what a provider keeps with a record set besides the records, as a read gives it.
type Detail struct {
	Refs       map[record.Data]string `json:"refs,omitempty"`       // identifiers of single records
	Attributes map[string]string      `json:"attributes,omitempty"` // named attributes
}

// Details are those of the sets that have any.
type Details map[record.Key]Detail

// Join adds what another page told of a set.
func (d Details) Join(key record.Key, more Detail) {
	was, there := d[key]
	if !there {
		d[key] = more
		return
	}
	for data, ref := range more.Refs {
		if was.Refs == nil {
			was.Refs = map[record.Data]string{}
		}
		was.Refs[data] = ref
	}
	for name, value := range more.Attributes {
		if was.Attributes == nil {
			was.Attributes = map[string]string{}
		}
		was.Attributes[name] = value
	}
	d[key] = was
}
