package record

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"beacon/core/dnsname"
	"beacon/core/rdata"
)

// FieldKind returns how a field of a form is filled in.
type FieldKind string

// The kinds of fields.
const (
	Number  FieldKind = "number"  // a whole number from 0 to Most
	Host    FieldKind = "host"    // a domain name; relative names stand below the zone
	Address FieldKind = "address" // an IP address
	Word    FieldKind = "word"    // one word as it is written in a zone file
	Text    FieldKind = "text"    // text without quotes; they are put around it
	Texts   FieldKind = "texts"   // text without quotes, cut into strings of 255 octets
	Rest    FieldKind = "rest"    // everything to the end of the record as it is written in a zone file
	Octets  FieldKind = "octets"  // base64 or hexadecimal digits; blanks do not matter
)

// Field is one part of a record's data.
type Field struct {
	Name    string    `json:"name"`
	Label   string    `json:"label"`
	Explain string    `json:"explain"`
	Kind    FieldKind `json:"kind"`
	Most    uint64    `json:"most,omitempty"` // of a number
	Choices []Choice  `json:"choices,omitempty"`
	Example string    `json:"example"`
	Maybe   bool      `json:"maybe,omitempty"` // it can be left empty
}

// Choice is one value that a field can have, and what it means.
type Choice struct {
	Value string `json:"value"`
	Means string `json:"means"`
}

// Form returns what a record type is for and which fields its data have, in the order of the presentation format.
type Form struct {
	Type   Type    `json:"type"`
	Means  string  `json:"means"`
	Source string  `json:"source"` // where it is defined
	Fields []Field `json:"fields"`
}

// FormOf returns the form of a type; one that is not in the table has a single field for the presentation format (RFC 3597).
func FormOf(t Type) Form {
	if i := slices.IndexFunc(forms, func(f Form) bool { return f.Type == t }); i >= 0 {
		return forms[i]
	}
	return Form{t, "A type without a form of its own.", "RFC 3597", []Field{{Name: "data", Label: "Data", Kind: Rest, Example: `\# 4 0a000001`,
		Explain: `Written as in a zone file; octets as \# LENGTH HEX.`}}}
}

// Forms returns the forms of all types that have one, by name.
func Forms() []Form {
	list := slices.Clone(forms)
	slices.SortFunc(list, func(a, b Form) int { return strings.Compare(a.Type.String(), b.Type.String()) })
	return list
}

// Split splits data into the values of the form's fields.
func (f Form) Split(d Data) map[string]string {
	values := map[string]string{}
	tokens := tokensOf(string(d))
	for i, field := range f.Fields {
		if i >= len(tokens) {
			values[field.Name] = ""
			continue
		}
		rest := tokens[i:]
		switch field.Kind {
		case Texts:
			values[field.Name] = strings.Join(Data(strings.Join(rest, " ")).Texts(), "")
		case Text:
			values[field.Name] = strings.Join(Data(tokens[i]).Texts(), "")
		case Rest:
			values[field.Name] = strings.Join(rest, " ")
		case Octets:
			values[field.Name] = strings.Join(rest, "")
		default:
			values[field.Name] = tokens[i]
		}
	}
	return values
}

// Join makes data of the values of the form's fields. Relative names are completed with origin. Errors name the field.
func (f Form) Join(values map[string]string, origin dnsname.Name) (Data, error) {
	for name := range values {
		if !slices.ContainsFunc(f.Fields, func(field Field) bool { return field.Name == name }) {
			return "", fmt.Errorf("%s records have no field %q; theirs are %s", f.Type, name, f.names())
		}
	}
	var parts []string
	for _, field := range f.Fields {
		part, err := field.write(values[field.Name], origin)
		if err != nil {
			return "", fmt.Errorf("%s: %w", strings.ToLower(field.Label), err)
		}
		if part != "" {
			parts = append(parts, part)
		}
	}
	return ParseData(f.Type, strings.Join(parts, " "), origin)
}

func (f Form) names() string {
	var names []string
	for _, field := range f.Fields {
		names = append(names, field.Name)
	}
	return strings.Join(names, ", ")
}

func (f Field) write(value string, origin dnsname.Name) (string, error) {
	if f.Kind != Text && f.Kind != Texts {
		value = strings.TrimSpace(value)
	}
	if value == "" && f.Kind != Text && f.Kind != Texts {
		if f.Maybe {
			return "", nil
		}
		return "", fmt.Errorf("it is missing; write something like %s", f.Example)
	}
	switch f.Kind {
	case Number:
		if _, err := strconv.ParseUint(value, 10, 64); err != nil || f.over(value) {
			return "", fmt.Errorf("%q is no number from 0 to %d", value, f.Most)
		}
	case Host:
		name, err := parseName(value, origin)
		return name, err
	case Texts:
		return Quoted(value), nil
	case Text:
		if len(value) > 255 {
			return "", fmt.Errorf("the text has %d octets; 255 are the most", len(value))
		}
		return rdata.Quote(value), nil
	case Octets:
		return strings.Join(strings.Fields(value), ""), nil
	case Word, Address:
		if strings.ContainsAny(value, " \t") && !strings.HasPrefix(value, `"`) {
			return "", fmt.Errorf("%q has a blank in it", value)
		}
	}
	return value, nil
}

func (f Field) over(value string) bool {
	n, err := strconv.ParseUint(value, 10, 64)
	return err != nil || n > f.Most
}

// Quoted writes text as strings of at most 255 octets, as TXT records hold it (RFC 1035 section 3.3.14).
func Quoted(text string) string {
	var parts []string
	for len(text) > 255 {
		parts = append(parts, rdata.Quote(text[:255]))
		text = text[255:]
	}
	return strings.Join(append(parts, rdata.Quote(text)), " ")
}

// tokensOf parts data at blanks outside quotes.
func tokensOf(data string) (list []string) {
	start, quoted := -1, false
	for i := 0; i < len(data); i++ {
		c := data[i]
		if c == ' ' && !quoted {
			if start >= 0 {
				list = append(list, data[start:i])
			}
			start = -1
			continue
		}
		if start < 0 {
			start = i
		}
		switch c {
		case '\\':
			i++
		case '"':
			quoted = !quoted
		}
	}
	if start >= 0 {
		list = append(list, data[start:])
	}
	return list
}

// OneText returns TXT data with its strings put together and split as Quoted does, which readers of SPF and DKIM make of them anyway (RFC 7208 section 3.3, RFC 6376 section
// 3.6.2.2). Data of other types stay as they are.
func OneText(t Type, d Data) Data {
	if t != TXT || !strings.HasPrefix(string(d), `"`) {
		return d
	}
	return Data(Quoted(strings.Join(d.Texts(), "")))
}
