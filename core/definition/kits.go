package definition

import (
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"go.yaml.in/yaml/v3"

	"beacon/core/dnsname"
	"beacon/core/zonefile"
)

// Kit is a named group of records with parameters that zones use.
type Kit struct {
	Name        string
	Description string // for people
	Parameters  []Parameter
	Uses        []Use  // other kits
	TTL         uint32 // for records that state none, in seconds; 0 for the zone's
	Records     string // master-file lines with ${parameter} in them
	File        string
	Line        int
}

// ParameterType is what a parameter of a kit can be.
type ParameterType string

// The types of parameters.
const (
	TextParameter    ParameterType = "text" // one line without quotes and backslashes
	NameParameter    ParameterType = "name" // a domain name, as it is written in a record
	AddressParameter ParameterType = "address"
	IPv4Parameter    ParameterType = "ipv4"
	IPv6Parameter    ParameterType = "ipv6"
	NumberParameter  ParameterType = "number"
	TTLParameter     ParameterType = "ttl"
	ChoiceParameter  ParameterType = "choice"
)

var parameterTypes = []ParameterType{TextParameter, NameParameter, AddressParameter, IPv4Parameter, IPv6Parameter, NumberParameter, TTLParameter, ChoiceParameter}

// Parameter is one parameter of a kit.
type Parameter struct {
	Name        string
	Type        ParameterType
	Description string
	Of          []string // values of a choice
	Min         uint64   // of a number
	Max         uint64   // of a number; 0 for no bound
	Default     *string  // nil where a value has to be given
}

// longestValue bounds a value, in octets.
const longestValue = 4096

// Check returns what is wrong with a value, or gives nil.
func (n Parameter) Check(value string) error {
	switch {
	case len(value) > longestValue:
		return fmt.Errorf("%s is %d characters long; %d are the most", n.Name, len(value), longestValue)
	case strings.ContainsFunc(value, unicode.IsControl) || strings.ContainsAny(value, "\"\\\u2028\u2029"):
		return fmt.Errorf("%s has a quote, a backslash or a line break in it, with which it could end its record", n.Name)
	}
	switch n.Type {
	case NameParameter:
		if _, err := dnsname.ParseRelative(value, dnsname.Root); err != nil || strings.ContainsAny(value, " \t;()") {
			return fmt.Errorf("%s: %q is no domain name", n.Name, value)
		}
	case AddressParameter, IPv4Parameter, IPv6Parameter:
		a, err := netip.ParseAddr(value)
		if err != nil || a.Zone() != "" || n.Type == IPv4Parameter && !a.Is4() || n.Type == IPv6Parameter && a.Is4() {
			return fmt.Errorf("%s: %q is no %s", n.Name, value, map[ParameterType]string{AddressParameter: "IP address", IPv4Parameter: "IPv4 address", IPv6Parameter: "IPv6 address"}[n.Type])
		}
	case NumberParameter:
		number, err := strconv.ParseUint(value, 10, 64)
		if err != nil || number < n.Min || n.Max > 0 && number > n.Max {
			return fmt.Errorf("%s: %q is no number %s", n.Name, value, n.bounds())
		}
	case TTLParameter:
		if _, err := zonefile.ParseTTL(value); err != nil {
			return fmt.Errorf("%s: %w", n.Name, err)
		}
	case ChoiceParameter:
		if !slices.Contains(n.Of, value) {
			return fmt.Errorf("%s: %q is none of %s", n.Name, value, strings.Join(n.Of, ", "))
		}
	}
	return nil
}

func (n Parameter) bounds() string {
	if n.Max > 0 {
		return fmt.Sprintf("from %d to %d", n.Min, n.Max)
	}
	return fmt.Sprintf("from %d on", n.Min)
}

// sample is a value that passes Check, with which a kit is tried that nobody uses yet.
func (n Parameter) sample() string {
	switch {
	case n.Default != nil:
		return *n.Default
	case n.Type == ChoiceParameter:
		return n.Of[0]
	}
	return map[ParameterType]string{TextParameter: "sample", NameParameter: "sample", AddressParameter: "192.0.2.1", IPv4Parameter: "192.0.2.1",
		IPv6Parameter: "2001:db8::1", NumberParameter: strconv.FormatUint(n.Min, 10), TTLParameter: "300"}[n.Type]
}

// kitSource is a kit with the block that its records stand in.
type kitSource struct {
	Kit
	block block
	open  bool // it is being expanded: a kit that uses itself would never end
	bad   bool // a fault in it was told already
}

func (r *reader) readKits(n *yaml.Node) {
	if n.Kind != yaml.MappingNode {
		r.fault(n, `"kits" holds one entry for each kit`, `write "kits:" and below it, indented, "post-office:"`)
		return
	}
	r.each(n, func(key, value *yaml.Node) {
		if !identifier.MatchString(key.Value) {
			r.fault(key, fmt.Sprintf("%q is no name of a kit", key.Value), "write lower-case letters, digits and hyphens, such as post-office")
			return
		}
		k := r.readKit(key, value)
		first, twice := r.kits[k.Name]
		switch {
		case twice && sameKit(first.Kit, k.Kit):
		case twice:
			r.fault(key, twiceMessage("kit", k.Name, first.File, first.Line), "give one of them another name")
		default:
			r.kits[k.Name] = k
			r.kitOrder = append(r.kitOrder, k.Name)
		}
	})
}

// sameKit reports whether two kits say the same: a definition that was written back out brings its kits along.
func sameKit(a, b Kit) bool {
	a.File, a.Line, b.File, b.Line = "", 0, "", 0
	for _, uses := range [][]Use{a.Uses, b.Uses} {
		for i := range uses {
			uses[i].at = zonefile.Place{}
		}
	}
	return reflect.DeepEqual(a, b)
}

func (r *reader) readKit(key, value *yaml.Node) *kitSource {
	k := &kitSource{Kit: Kit{Name: key.Value, File: r.file.name, Line: key.Line}}
	before := len(r.faults)
	r.keys(value, "a kit", fields{
		"description": func(_, v *yaml.Node) { k.Description = r.text(v, "description") },
		"parameters":  func(_, v *yaml.Node) { k.Parameters = r.readParameters(v) },
		"kits":        func(_, v *yaml.Node) { k.Uses = r.readUses(v) },
		"ttl":         func(_, v *yaml.Node) { k.TTL = r.ttl(v, 0) },
		"records": func(_, v *yaml.Node) {
			k.block, _ = r.block(v)
			k.Records = k.block.text
		},
	})
	if k.Records == "" && len(k.Uses) == 0 && len(r.faults) == before {
		r.fault(key, fmt.Sprintf("kit %s has neither records nor kits", k.Name), `add "records: |" and the records below it, indented`)
	}
	k.bad = len(r.faults) > before
	return k
}

func (r *reader) readParameters(n *yaml.Node) (needs []Parameter) {
	switch n.Kind {
	case yaml.SequenceNode:
		for _, item := range n.Content {
			if name, ok := r.parameterName(item); ok {
				needs = append(needs, Parameter{Name: name, Type: TextParameter})
			}
		}
	case yaml.MappingNode:
		r.each(n, func(key, value *yaml.Node) {
			if name, ok := r.parameterName(key); ok {
				needs = append(needs, r.readParameter(name, value))
			}
		})
	default:
		r.fault(n, `"parameters" lists the parameters of the kit`, "write them like [policy], or one a line as policy: {type: choice, of: [none, reject]}")
	}
	return needs
}

func (r *reader) parameterName(n *yaml.Node) (string, bool) {
	if n.Kind != yaml.ScalarNode || !identifier.MatchString(n.Value) {
		r.fault(n, "this is no name of a parameter", "write lower-case letters, digits and hyphens, such as mail-host")
		return "", false
	}
	return n.Value, true
}

func (r *reader) readParameter(name string, n *yaml.Node) Parameter {
	need := Parameter{Name: name, Type: TextParameter}
	before := len(r.faults)
	typed := func(v *yaml.Node) {
		need.Type = ParameterType(v.Value)
		if !slices.Contains(parameterTypes, need.Type) {
			r.fault(v, fmt.Sprintf("%q is no type of a parameter", v.Value), "the types are "+joined(parameterTypes))
		}
	}
	if n.Kind == yaml.ScalarNode {
		typed(n)
		if need.Type == ChoiceParameter && len(r.faults) == before {
			r.fault(n, "a choice says what can be chosen", "write {type: choice, of: [none, reject]}")
		}
		return need
	}
	var chosen *yaml.Node
	number := func(into *uint64) func(_, v *yaml.Node) {
		return func(_, v *yaml.Node) {
			var err error
			if *into, err = strconv.ParseUint(v.Value, 10, 64); err != nil {
				r.fault(v, fmt.Sprintf("%q is no number", v.Value), "")
			}
		}
	}
	r.keys(n, "a parameter", fields{
		"type":        func(_, v *yaml.Node) { typed(v) },
		"description": func(_, v *yaml.Node) { need.Description = r.text(v, "description") },
		"of": func(_, v *yaml.Node) {
			for _, item := range v.Content {
				need.Of = append(need.Of, item.Value)
			}
		},
		"min":     number(&need.Min),
		"max":     number(&need.Max),
		"default": func(_, v *yaml.Node) { chosen = v },
	})
	if need.Type == ChoiceParameter && len(need.Of) == 0 {
		r.fault(n, "a choice says what can be chosen", "write {type: choice, of: [none, reject]}")
	} else if chosen != nil {
		need.Default = &chosen.Value
		if err := need.Check(chosen.Value); err != nil && len(r.faults) == before {
			r.fault(chosen, err.Error(), "")
		}
	}
	return need
}

func joined[T ~string](words []T) string {
	texts := make([]string, len(words))
	for i, w := range words {
		texts[i] = string(w)
	}
	return strings.Join(texts, ", ")
}

// readUses reads kits: [plain, {with-parameters: {policy: reject}}].
func (r *reader) readUses(n *yaml.Node) (uses []Use) {
	if n.Kind != yaml.SequenceNode {
		r.fault(n, `"kits" is a list`, "write it like [post-office] or [{post-office: {policy: reject}}]")
		return nil
	}
	for _, item := range n.Content {
		u := Use{With: map[string]string{}, at: zonefile.Place{Line: item.Line, Column: item.Column}}
		switch {
		case item.Kind == yaml.ScalarNode:
			u.Kit = item.Value
		case item.Kind == yaml.MappingNode && len(item.Content) == 2 && item.Content[1].Kind == yaml.MappingNode:
			u.Kit = item.Content[0].Value
			r.each(item.Content[1], func(key, value *yaml.Node) { u.With[key.Value] = r.text(value, key.Value) })
		default:
			r.fault(item, "this is no use of a kit", "write its name, or {name: {parameter: value}}")
			continue
		}
		uses = append(uses, u)
	}
	return uses
}
