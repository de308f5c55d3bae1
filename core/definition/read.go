package definition

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/rules"
	"beacon/core/spelling"
	"beacon/core/zonefile"
)

type reader struct {
	file   File
	lines  []string
	zones  []Zone
	faults []zonefile.Fault
}

func (r *reader) faultAt(line, column int, message, remedy string) {
	r.faults = append(r.faults, zonefile.Fault{File: r.file.Name, Line: line, Column: column, Message: message, Remedy: remedy})
}

func (r *reader) fault(n *yaml.Node, message, remedy string) {
	r.faultAt(n.Line, n.Column, message, remedy)
}

func (r *reader) readFile() []Zone {
	var doc yaml.Node
	if err := yaml.Unmarshal([]byte(r.file.Text), &doc); err != nil {
		r.yamlFault(err)
		return nil
	}
	if len(doc.Content) == 0 {
		r.faultAt(1, 1, "the file is empty", `begin with "zones:"`)
		return nil
	}
	var zones []Zone
	r.keys(doc.Content[0], "a definition file", map[string]func(key, value *yaml.Node){
		"zones": func(_, value *yaml.Node) { zones = r.readZones(value) },
	})
	return zones
}

var yamlLine = regexp.MustCompile(`line (\d+): `)

// yamlFault passes on what the YAML parser says, with the line that it names.
func (r *reader) yamlFault(err error) {
	line, message := 1, strings.TrimPrefix(err.Error(), "yaml: ")
	if m := yamlLine.FindStringSubmatch(message); m != nil {
		line, _ = strconv.Atoi(m[1])
		message = strings.Replace(message, m[0], "", 1)
	}
	r.faultAt(line, 1, "this is not YAML: "+message, "check indentation, colons and quotes on this line and the one above")
}

// keys walks a mapping: each key must be known and stand once.
func (r *reader) keys(n *yaml.Node, what string, known map[string]func(key, value *yaml.Node)) {
	if n.Kind != yaml.MappingNode {
		r.fault(n, what+` consists of "key: value" lines`, "the keys are "+keyList(known))
		return
	}
	seen := map[string]int{}
	for i := 0; i < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		if first, twice := seen[key.Value]; twice {
			r.fault(key, fmt.Sprintf("%q stands twice, first on line %d", key.Value, first), "keep one of them")
			continue
		}
		seen[key.Value] = key.Line
		read, ok := known[key.Value]
		switch {
		case ok && value.Kind == yaml.AliasNode:
			r.fault(value, "YAML aliases are not used in definitions", "write the value out")
		case ok:
			read(key, value)
		default:
			remedy := "the keys are " + keyList(known)
			if meant, found := spelling.Closest(key.Value, keyNames(known)); found {
				remedy = fmt.Sprintf("write %q", meant)
			}
			r.fault(key, fmt.Sprintf("%q is no key of %s", key.Value, what), remedy)
		}
	}
}

func keyNames(known map[string]func(key, value *yaml.Node)) []string {
	names := make([]string, 0, len(known))
	for name := range known {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

func keyList(known map[string]func(key, value *yaml.Node)) string {
	return strings.Join(keyNames(known), ", ")
}

func (r *reader) readZones(n *yaml.Node) []Zone {
	var zones []Zone
	if n.Kind != yaml.MappingNode {
		r.fault(n, `"zones" holds one entry for each zone`, `write "zones:" and below it, indented, "saltmarsh-ferries.example:"`)
		return nil
	}
	for i := 0; i < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		name, err := dnsname.Parse(key.Value)
		if err != nil {
			r.fault(key, err.Error(), "")
			continue
		}
		zones = append(zones, r.readZone(name, key, value))
	}
	return zones
}

func (r *reader) readZone(name dnsname.Name, key, value *yaml.Node) Zone {
	z := Zone{Name: name, File: r.file.Name, Line: key.Line}
	ttl := uint32(defaultTTL)
	var records *yaml.Node
	r.keys(value, "a zone", map[string]func(key, value *yaml.Node){
		"label":     func(_, v *yaml.Node) { z.Label = r.text(v, "label") },
		"registrar": func(_, v *yaml.Node) { z.Registrar = r.account(v) },
		"at":        func(_, v *yaml.Node) { z.At = r.accounts(v) },
		"ttl": func(_, v *yaml.Node) {
			seconds, err := zonefile.ParseTTL(v.Value)
			if err != nil {
				r.fault(v, err.Error(), "")
				return
			}
			ttl = seconds
		},
		"records": func(_, v *yaml.Node) { records = v },
	})
	switch {
	case value.Kind != yaml.MappingNode:
	case records == nil:
		r.fault(key, fmt.Sprintf("zone %s has no records", name), `add "records: |" and the records below it, indented`)
	default:
		r.readRecords(&z, records, max(ttl, 1))
	}
	return z
}

func (r *reader) text(n *yaml.Node, what string) string {
	if n.Kind != yaml.ScalarNode {
		r.fault(n, what+" is one line of text", "")
		return ""
	}
	return n.Value
}

var accountName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

func (r *reader) account(n *yaml.Node) string {
	if n.Kind != yaml.ScalarNode || !accountName.MatchString(n.Value) {
		r.fault(n, "this is no account name", "write lower-case letters, digits and hyphens, such as heron-main")
		return ""
	}
	return n.Value
}

func (r *reader) accounts(n *yaml.Node) []string {
	if n.Kind == yaml.ScalarNode {
		return []string{r.account(n)}
	}
	var names []string
	for _, item := range n.Content {
		name := r.account(item)
		if slices.Contains(names, name) {
			r.fault(item, fmt.Sprintf("%q is listed twice", name), "keep one of them")
		}
		names = append(names, name)
	}
	return names
}

func (r *reader) readRecords(z *Zone, n *yaml.Node, ttl uint32) {
	if n.Kind != yaml.ScalarNode || n.Style&yaml.LiteralStyle == 0 {
		r.fault(n, "records stand in a block, one a line", `write "records: |" and the records below it, indented`)
		return
	}
	at := zonefile.Place{Line: n.Line + 1, Column: r.blockColumn(n)}
	read, faults := zonefile.Read(n.Value, zonefile.Options{Origin: z.Name, TTL: ttl, File: r.file.Name, At: at})
	r.faults = append(r.faults, faults...)
	z.Contents = read.Contents()
	z.Written = read.Records
	for _, f := range rules.Check(rules.Zone{Name: z.Name, Contents: z.Contents}) {
		if f.Severity != finding.Error {
			continue
		}
		place := zonefile.Place{Line: 1, Column: 1}
		for i, rec := range read.Records {
			if rec.Key() == f.Key {
				place = read.Places[i]
				break
			}
		}
		r.faultAt(at.Line+place.Line-1, at.Column+place.Column-1, f.Subject+": "+f.Message, f.Remedy)
	}
}

// blockColumn finds the column at which the lines of a block scalar begin.
func (r *reader) blockColumn(n *yaml.Node) int {
	for i := n.Line; i < len(r.lines); i++ {
		if text := strings.TrimLeft(r.lines[i], " "); strings.TrimSpace(text) != "" {
			// The first line of content may itself begin with blanks that belong to it.
			own := len(n.Value) - len(strings.TrimLeft(n.Value, " \n"))
			own -= strings.LastIndexByte(n.Value[:own], '\n') + 1
			return len(r.lines[i]) - len(text) - own + 1
		}
	}
	return 1
}
