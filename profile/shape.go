package profile

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/zonefile"
	"beacon/provider"
)

// zoneShape is a zone as expressions see it.
type zoneShape struct {
	ID   string `json:"id"`
	Name string `json:"name"` // without final dot
	FQDN string `json:"fqdn"` // with it
}

func shapeZone(z provider.ZoneRef) zoneShape {
	return zoneShape{z.ID, plain(z.Name), z.Name.String()}
}

// plain writes a name without its final dot.
func plain(n dnsname.Name) string { return strings.TrimSuffix(n.String(), ".") }

// nameShape is a name in the ways in which interfaces write it.
type nameShape struct {
	Name  string `json:"name"`  // absolute, with final dot
	Host  string `json:"host"`  // absolute, without it
	Label string `json:"label"` // relative to the zone; empty for its apex
}

func shapeName(n, zone dnsname.Name) nameShape {
	s := nameShape{Name: n.String(), Host: plain(n)}
	if n != zone {
		s.Label = n.Relative(zone)
	}
	return s
}

// setShape is a record set before or after a step.
type setShape struct {
	TTL    uint32   `json:"ttl"`
	Values []string `json:"values"` // data in presentation form
	Texts  []string `json:"texts"`  // the same with TXT data as plain text
	Plain  []string `json:"plain"`  // the same as texts, with names in it without their final dot
}

func shapeSet(s record.Set) *setShape {
	if s.IsZero() {
		return nil
	}
	shape := &setShape{TTL: s.TTL}
	for _, d := range s.Data {
		shape.Values = append(shape.Values, string(d))
		shape.Texts = append(shape.Texts, textOf(s.Type, d))
		shape.Plain = append(shape.Plain, withoutDot(s.Type, textOf(s.Type, d)))
	}
	return shape
}

func textOf(t record.Type, d record.Data) string {
	if t == record.TXT {
		return strings.Join(d.Texts(), "")
	}
	return string(d)
}

// stepShape is a change of a record set.
type stepShape struct {
	nameShape
	Verb       string            `json:"verb"` // create, update or delete
	Type       string            `json:"type"`
	Before     *setShape         `json:"before"`
	After      *setShape         `json:"after"`
	Attributes map[string]string `json:"attributes"` // those that are there, under those that are to be
	Ref        string            `json:"ref"`        // identifier of the set, where it has one
}

// opShape is a change of one record.
type opShape struct {
	nameShape
	Verb       string            `json:"verb"`
	Type       string            `json:"type"`
	Ref        string            `json:"ref"`
	TTL        uint32            `json:"ttl"`
	Value      string            `json:"value"`
	Text       string            `json:"text"`
	Plain      string            `json:"plain"`
	Before     *setShape         `json:"before"`
	Attributes map[string]string `json:"attributes"`
}

// recordShape is a record of the zone as it will be.
type recordShape struct {
	nameShape
	Type  string `json:"type"`
	TTL   uint32 `json:"ttl"`
	Value string `json:"value"`
	Text  string `json:"text"`
	Plain string `json:"plain"`
}

// writeShape is what an expression that makes a body is given.
type writeShape struct {
	Zone     zoneShape      `json:"zone"`
	Mark     string         `json:"mark"`
	Steps    []stepShape    `json:"steps"`
	Ops      []opShape      `json:"ops"`
	Change   any            `json:"change,omitempty"` // the one change of an interface with a request for each
	Records  []recordShape  `json:"records"`
	Zonefile string         `json:"zonefile,omitempty"`
	Contact  string         `json:"contact,omitempty"` // of .soa, where a zone is made
	Another  bool           `json:"another,omitempty"` // a zone of this name is there already, and one more is to be made
	Minimum  uint32         `json:"minimum,omitempty"` // of .soa, where a zone is made; seconds
	SOA      map[string]any `json:"soa,omitempty"`
	Cursor   string         `json:"cursor,omitempty"` // of a read
	Offset   int            `json:"offset"`           // items of the pages before, of a read
	Key      string         `json:"key,omitempty"`    // the same for every attempt at one change

	Registration *registrationShape `json:"-"` // in place of all of it, for changes at a registrar
}

// MarshalJSON writes the input of an expression.
func (w writeShape) MarshalJSON() ([]byte, error) {
	if r := w.Registration; r != nil {
		return json.Marshal(struct {
			Domain zoneShape `json:"domain"`
			*registrationShape
			Cursor string `json:"cursor,omitempty"`
			Offset int    `json:"offset"`
			Key    string `json:"key,omitempty"`
		}{w.Zone, r, w.Cursor, w.Offset, w.Key})
	}
	type plainShape writeShape
	return json.Marshal(plainShape(w))
}

func stepVerb(s change.Step) string {
	return map[string]string{"add": "create", "change": "update", "remove": "delete"}[s.Verb()]
}

// extrasOf lays what shall be over what is there, so that nothing is lost that nobody spoke of.
func extrasOf(there, wish map[string]string) map[string]string {
	all := map[string]string{}
	for name, value := range there {
		all[name] = value
	}
	for name, value := range wish {
		all[name] = value
	}
	return all
}

func (p *Profile) shapeBatch(zone provider.ZoneRef, b change.Batch) writeShape {
	w := writeShape{Zone: shapeZone(zone), Mark: b.Mark}
	switch p.Caps.Granularity {
	case change.ByZone:
		w.Zonefile = zonefile.Text(zone.Name, b.Result)
		for _, r := range b.Result.Records() {
			w.Records = append(w.Records, recordShape{shapeName(r.Name, zone.Name), r.Type.String(), r.TTL, string(r.Data), textOf(r.Type, r.Data), withoutDot(r.Type, textOf(r.Type, r.Data))})
		}
	case change.ByRecord:
		for _, op := range b.Ops {
			w.Ops = append(w.Ops, shapeOp(op, zone.Name, b.Details))
		}
	default:
		for _, s := range b.Steps {
			detail := b.Details[s.Key()]
			shape := stepShape{nameShape: shapeName(s.Key().Name, zone.Name), Verb: stepVerb(s), Type: s.Key().Type.String(),
				Before: shapeSet(s.Before), After: shapeSet(s.After), Attributes: extrasOf(detail.Attributes, s.Attributes)}
			for _, ref := range detail.Refs {
				shape.Ref = ref
			}
			w.Steps = append(w.Steps, shape)
		}
	}
	return w
}

func shapeOp(op change.Op, zone dnsname.Name, details change.Details) opShape {
	of := op.After
	if op.Verb == change.Delete {
		of = op.Before
	}
	detail := details[of.Key()]
	shape := opShape{nameShape: shapeName(of.Name, zone), Verb: string(op.Verb), Type: of.Type.String(), TTL: of.TTL,
		Value: string(of.Data), Text: textOf(of.Type, of.Data), Plain: withoutDot(of.Type, textOf(of.Type, of.Data)), Attributes: extrasOf(detail.Attributes, op.Attributes)}
	if op.Verb != change.Create {
		shape.Ref = detail.Refs[op.Before.Data]
		shape.Before = shapeSet(record.SetOf([]record.Record{op.Before}))
	}
	return shape
}

// word reads a JSON scalar as a text: interfaces number things as often as they name them.
type word string

func (w *word) UnmarshalJSON(text []byte) error {
	var s string
	if json.Unmarshal(text, &s) == nil {
		*w = word(s)
		return nil
	}
	if string(text) == "null" {
		return nil
	}
	if len(text) > 0 && (text[0] == '{' || text[0] == '[') {
		return fmt.Errorf("%s is no text and no number", text)
	}
	*w = word(text)
	return nil
}

// zoneItem is a zone as an expression gives it back.
type zoneItem struct {
	ID          word     `json:"id"`
	Name        string   `json:"name"`
	Nameservers []string `json:"nameservers"`
}

func readZone(text json.RawMessage) (provider.Zone, error) {
	var item zoneItem
	if err := json.Unmarshal(text, &item); err != nil {
		return provider.Zone{}, err
	}
	if item.Name == "" || item.ID == "" {
		return provider.Zone{}, fmt.Errorf("a zone needs id and name: %.200s", text)
	}
	name, err := dnsname.Parse(item.Name)
	if err != nil {
		return provider.Zone{}, err
	}
	z := provider.Zone{Ref: provider.ZoneRef{ID: string(item.ID), Name: name}}
	z.Nameservers, err = dnsname.ParseSet(item.Nameservers)
	return z, err
}

// recordItem is a record, a record set or a zone file as an expression gives it back.
type recordItem struct {
	Name       string          `json:"name"`
	Label      *string         `json:"label"`
	Type       string          `json:"type"`
	TTL        *uint32         `json:"ttl"`
	Value      *string         `json:"value"`
	Text       *string         `json:"text"`
	Values     []string        `json:"values"`
	Texts      []string        `json:"texts"`
	Ref        word            `json:"ref"`
	Attributes map[string]word `json:"attributes"`
	File       *string         `json:"zonefile"`
}

// readRecords adds what an item holds to a page. doubt is called with records whose data can be read in two ways.
func readRecords(text json.RawMessage, zone dnsname.Name, targets string, page *provider.Page, doubt func(string)) error {
	var item recordItem
	if err := json.Unmarshal(text, &item); err != nil {
		return fmt.Errorf("%w: %.200s", err, text)
	}
	if item.File != nil {
		read, faults := zonefile.Read(*item.File, zonefile.Options{Origin: zone})
		if len(faults) > 0 {
			return faults[0]
		}
		page.Records = append(page.Records, read.Records...)
		return nil
	}
	key, err := item.key(zone)
	if err != nil {
		return fmt.Errorf("%w: %.200s", err, text)
	}
	set, err := item.set(key, func(text string) string {
		out, open := withTarget(key.Type, text, targets, key.Name, zone)
		if open {
			doubt(fmt.Sprintf("%s %s %s", key.Name, key.Type, text))
		}
		return out
	})
	if err != nil {
		return fmt.Errorf("%w: %.200s", err, text)
	}
	page.Records = append(page.Records, set.Records()...)
	detail := change.Detail{}
	if item.Ref != "" {
		detail.Refs = map[record.Data]string{}
		for _, d := range set.Data {
			detail.Refs[d] = string(item.Ref)
		}
	}
	for name, value := range item.Attributes {
		if value != "" {
			if detail.Attributes == nil {
				detail.Attributes = map[string]string{}
			}
			detail.Attributes[name] = string(value)
		}
	}
	if detail.Refs != nil || detail.Attributes != nil {
		page.Details.Join(key, detail)
	}
	return nil
}

func (i recordItem) key(zone dnsname.Name) (key record.Key, err error) {
	switch {
	case i.Name != "":
		key.Name, err = dnsname.Parse(i.Name)
	case i.Label == nil:
		err = fmt.Errorf("a record needs a name, or a label below the zone")
	case *i.Label == "" || *i.Label == "@":
		key.Name = zone
	default:
		key.Name, err = dnsname.ParseRelative(*i.Label, zone)
	}
	if err == nil && !key.Name.IsAtOrBelow(zone) {
		err = fmt.Errorf("%s is outside the zone", key.Name)
	}
	if err == nil {
		key.Type, err = record.ParseType(i.Type)
	}
	return key, err
}

// set returns the record set of an item. whole writes the name in data with its final dot.
func (i recordItem) set(key record.Key, whole func(string) string) (record.Set, error) {
	if i.TTL == nil {
		return record.Set{}, fmt.Errorf("a record needs a ttl")
	}
	values, texts := i.Values, i.Texts
	if i.Value != nil {
		values = append(values, *i.Value)
	}
	if key.Type == record.TXT { // some providers show the strings of a long text as one
		values = slices.Clone(values)
		for n := range values {
			values[n], _ = record.SplitLong(values[n])
		}
	}
	if i.Text != nil {
		texts = append(texts, *i.Text)
	}
	for _, text := range texts {
		if key.Type == record.TXT {
			text = record.Quoted(text)
		}
		values = append(values, text)
	}
	if len(values) == 0 {
		return record.Set{}, fmt.Errorf("a record needs a value or a text")
	}
	for n := range values {
		values[n] = whole(values[n])
	}
	return record.ParseSet(key.Name, key.Type, *i.TTL, values)
}
