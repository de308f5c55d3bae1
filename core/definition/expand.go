package definition

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/spelling"
	"beacon/core/zonefile"
)

// mostMade bounds how many records and uses the kits of a definition make.
const mostMade = 1 << 18

// made is a record with the place of the text that made it.
type made struct {
	record record.Record
	from   Origin
	column int
}

func (m made) fault(message, remedy string) zonefile.Fault {
	return zonefile.Fault{File: m.from.File, Line: m.from.Line, Column: m.column, Message: message, Remedy: remedy}
}

// readValues reads values: {name: text, name: {environment: VARIABLE, default: text}}.
func (r *reader) readValues(n *yaml.Node) {
	if n.Kind != yaml.MappingNode {
		r.fault(n, `"values" holds one entry for each value`, `write "values:" and below it, indented, "office: 192.0.2.7"`)
		return
	}
	r.each(n, func(key, value *yaml.Node) {
		name, ok := r.parameterName(key)
		if !ok {
			return
		}
		text, at := value.Value, value
		if value.Kind != yaml.ScalarNode {
			if text, at, ok = r.fromEnvironment(value); !ok {
				return
			}
		}
		if err := (Parameter{Name: name, Type: TextParameter}).Check(text); err != nil {
			r.fault(at, err.Error(), "")
			text = "" // what uses it is read on, and refused with the rest
		}
		r.file.values[name] = text
	})
}

func (r *reader) fromEnvironment(n *yaml.Node) (value string, at *yaml.Node, ok bool) {
	var variable, otherwise *yaml.Node
	r.keys(n, "a value", fields{
		"environment": func(_, v *yaml.Node) { variable = v },
		"default":     func(_, v *yaml.Node) { otherwise = v },
	})
	switch {
	case variable == nil:
		r.fault(n, "the value is missing", "write it as text, or {environment: VARIABLE, default: text}")
		return "", n, false
	case !variableName.MatchString(variable.Value):
		r.fault(variable, fmt.Sprintf("%q is no name of a variable of the environment", variable.Value), "")
		return "", n, false
	}
	if text, given := r.file.environment[variable.Value]; given {
		return text, variable, true
	}
	if otherwise != nil {
		return otherwise.Value, otherwise, true
	}
	r.fault(variable, fmt.Sprintf("the environment has no %s", variable.Value), fmt.Sprintf("set it (%s=… beacon apply …), or give a default here", variable.Value))
	return "", n, false
}

var variableName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,100}$`)

// Variables returns the variables of the environment that a definition file names; nothing else of the environment ever
// reaches it.
func Variables(text string) []string {
	if !strings.Contains(text, "environment") {
		return nil
	}
	var doc struct {
		Values map[string]yaml.Node `yaml:"values"`
	}
	_ = yaml.Unmarshal([]byte(text), &doc) // faults are told by Read
	var names []string
	for _, n := range doc.Values {
		var v struct {
			Environment string `yaml:"environment"`
		}
		if n.Kind == yaml.MappingNode && n.Decode(&v) == nil && variableName.MatchString(v.Environment) {
			names = append(names, v.Environment)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// checkKits tries every kit with sample values, so that a fault in it is found before a zone uses it.
func (r *reader) checkKits() {
	zone := dnsname.MustParse("zone.example")
	for _, name := range r.kitOrder {
		k := r.kits[name]
		if k.bad {
			continue
		}
		values := map[string]string{}
		for _, need := range k.Parameters {
			values[need.Name] = need.sample()
		}
		before := len(r.faults)
		r.expandKit(k, values, zone, defaultTTL)
		k.bad = len(r.faults) > before
	}
	r.made = 0
}

// expandUse makes records of one use of a kit. Values of the surrounding text may stand in its parameters.
func (r *reader) expandUse(u Use, around map[string]string, zone dnsname.Name, ttl uint32) []made {
	k, known := r.kits[u.Kit]
	if !known {
		remedy := "define it under kits:, in this file or another one that is read with it"
		if meant, found := spelling.Closest(u.Kit, r.kitOrder); found {
			remedy = fmt.Sprintf("write %q", meant)
		}
		r.faultAt(u.at.Line, u.at.Column, fmt.Sprintf("there is no kit %q", u.Kit), remedy)
		return nil
	}
	values := map[string]string{}
	before := len(r.faults)
	for _, need := range k.Parameters {
		given, said := u.With[need.Name]
		switch {
		case said:
			given = r.fill(given, around, u.at)
		case need.Default != nil:
			given = *need.Default
		default:
			r.faultAt(u.at.Line, u.at.Column, fmt.Sprintf("kit %s needs %s (%s)", k.Name, need.Name, need.Type), fmt.Sprintf("write {%s: {%s: …}}", k.Name, need.Name))
			continue
		}
		if err := need.Check(given); err != nil && len(r.faults) == before {
			r.faultAt(u.at.Line, u.at.Column, fmt.Sprintf("kit %s: %s", k.Name, err), "")
		}
		values[need.Name] = given
	}
	for _, name := range slices.Sorted(maps.Keys(u.With)) {
		if !slices.ContainsFunc(k.Parameters, func(n Parameter) bool { return n.Name == name }) {
			r.faultAt(u.at.Line, u.at.Column, fmt.Sprintf("kit %s has no parameter %q", k.Name, name), "its parameters are "+needNames(k.Parameters))
		}
	}
	if k.bad || len(r.faults) > before {
		return nil
	}
	return r.expandKit(k, values, zone, ttl)
}

func needNames(needs []Parameter) string {
	if len(needs) == 0 {
		return "none"
	}
	names := make([]string, len(needs))
	for i, n := range needs {
		names[i] = n.Name
	}
	return strings.Join(names, ", ")
}

func (r *reader) expandKit(k *kitSource, values map[string]string, zone dnsname.Name, ttl uint32) (all []made) {
	if k.open {
		r.in(&source{name: k.File}, func() {
			r.faultAt(k.Line, 3, fmt.Sprintf("kit %s uses itself, directly or through others", k.Name), "remove one of the uses")
		})
		return nil
	}
	if r.made++; r.made > mostMade {
		r.in(&source{name: k.File}, func() {
			r.faultAt(k.Line, 3, fmt.Sprintf("the kits make more than %d records", mostMade), "a kit that uses a kit that uses a kit … multiplies them")
		})
		return nil
	}
	k.open = true
	defer func() { k.open = false }()
	if k.TTL > 0 {
		ttl = k.TTL
	}
	if k.block.file != nil {
		r.in(k.block.file, func() { all = r.expand(k.block, values, zone, ttl, Origin{Kit: k.Name, File: k.File}) })
	}
	for _, u := range k.Uses {
		if r.made <= mostMade {
			r.in(&source{name: k.File}, func() { all = append(all, r.expandUse(u, values, zone, ttl)...) })
		}
	}
	return all
}

var inserted = regexp.MustCompile(`\$\$\{|\$\{[^}\n]*\}?`)

// shift is a part of a line that a value was put into.
type shift struct{ from, to, column, grown int }

// fill puts values into one line of text.
func (r *reader) fill(text string, values map[string]string, at zonefile.Place) string {
	filled, _ := r.fillLine(text, values, at, func(int) int { return at.Column })
	return filled
}

func (r *reader) fillLine(line string, values map[string]string, at zonefile.Place, column func(int) int) (string, []shift) {
	if !strings.Contains(line, "${") {
		return line, nil
	}
	var b strings.Builder
	var shifts []shift
	rest := 0
	for _, m := range inserted.FindAllStringIndex(line, -1) {
		word := line[m[0]:m[1]]
		b.WriteString(line[rest:m[0]])
		rest = m[1]
		value := "${" // written as $${
		if word != "$${" {
			name := strings.TrimSuffix(word[2:], "}")
			given, known := values[name]
			switch {
			case !strings.HasSuffix(word, "}"):
				r.faultAt(at.Line, column(m[0]), `"${" is opened and not closed`, `write "}" behind the name, or "$${" for the characters themselves`)
			case !known:
				remedy := "values and parameters here: " + strings.Join(slices.Sorted(maps.Keys(values)), ", ")
				if len(values) == 0 {
					remedy = "there are no values here; give it under values:, or as a parameter of the kit under parameters:"
				}
				r.faultAt(at.Line, column(m[0]), fmt.Sprintf("there is no value %q", name), remedy)
			}
			value = given
		}
		start := b.Len()
		b.WriteString(value)
		shifts = append(shifts, shift{start, b.Len(), m[0], m[1]})
	}
	b.WriteString(line[rest:])
	return b.String(), shifts
}

// before returns the column, from 0, at which what stands at a column of a filled line stood before.
func before(shifts []shift, column int) int {
	for i := len(shifts) - 1; i >= 0; i-- {
		if s := shifts[i]; column >= s.to {
			return column - s.to + s.grown
		} else if column >= s.from {
			return s.column
		}
	}
	return column
}

// expand makes records of a block with values put into it.
func (r *reader) expand(b block, values map[string]string, zone dnsname.Name, ttl uint32, from Origin) []made {
	lines := strings.Split(b.text, "\n")
	var moved map[int][]shift
	known := len(r.faults)
	if strings.Contains(b.text, "${") {
		moved = map[int][]shift{}
		for i, line := range lines {
			at := zonefile.Place{Line: b.line + i}
			lines[i], moved[i] = r.fillLine(line, values, at, func(c int) int { return b.column + c })
		}
	}
	if len(r.faults) > known {
		return nil
	}
	read, faults := zonefile.Read(strings.Join(lines, "\n"), zonefile.Options{Origin: zone, TTL: ttl, File: b.name()})
	place := func(line, column int) (int, int) {
		return b.line + line - 1, b.column + before(moved[line-1], column-1)
	}
	for _, f := range faults {
		f.Line, f.Column = place(f.Line, f.Column)
		r.faults = append(r.faults, f)
	}
	all := make([]made, len(read.Records))
	for i, rec := range read.Records {
		from.Line, all[i].column = place(read.Places[i].Line, read.Places[i].Column)
		all[i].record, all[i].from = rec, from
	}
	if from.Kit != "" {
		r.made += len(all)
	}
	return all
}

func (b block) name() string {
	if b.file == nil {
		return ""
	}
	return b.file.name
}
