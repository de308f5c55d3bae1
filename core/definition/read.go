package definition

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"beacon/core/spelling"
	"beacon/core/zonefile"
)

func (r *reader) fault(n *yaml.Node, message, remedy string) {
	r.faultAt(n.Line, n.Column, message, remedy)
}

// fields are the keys that a mapping may have, and what reads each.
type fields map[string]func(key, value *yaml.Node)

func (r *reader) readFile(f File) {
	r.file = &source{name: f.Name, lines: strings.Split(f.Text, "\n"), environment: f.Environment, values: map[string]string{}}
	var doc yaml.Node
	if err := yaml.Unmarshal([]byte(f.Text), &doc); err != nil {
		r.readBroken(err)
		return
	}
	if len(doc.Content) == 0 {
		r.faultAt(1, 1, "the file is empty", `begin with "zones:"`)
		return
	}
	r.readSections(doc.Content[0])
}

// readSections reads the sections of a file.
func (r *reader) readSections(doc *yaml.Node) {
	r.keys(doc, "a definition file", fields{
		"values": func(_, value *yaml.Node) { r.readValues(value) },
		"kits": func(_, value *yaml.Node) {
			if !r.learned {
				r.readKits(value)
			}
		},
		"zones": func(_, value *yaml.Node) { r.readZones(value) },
	})
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
func (r *reader) keys(n *yaml.Node, what string, known fields) {
	if n.Kind != yaml.MappingNode {
		r.fault(n, what+` consists of "key: value" lines`, "the keys are "+keyList(known))
		return
	}
	r.each(n, func(key, value *yaml.Node) {
		read, ok := known[key.Value]
		switch {
		case ok:
			read(key, value)
		default:
			if now, renamed := formerKeys[key.Value]; renamed && known[now] != nil {
				r.fault(key, fmt.Sprintf("%q is called %q now", key.Value, now), fmt.Sprintf("write %q", now))
				return
			}
			remedy := "the keys are " + keyList(known)
			if meant, found := spelling.Closest(key.Value, keyNames(known)); found {
				remedy = fmt.Sprintf("write %q", meant)
			}
			r.fault(key, fmt.Sprintf("%q is no key of %s", key.Value, what), remedy)
		}
	})
}

// each walks a mapping whose keys are names: each stands once, and no value is an alias of YAML, which could grow
// without bound.
func (r *reader) each(n *yaml.Node, do func(key, value *yaml.Node)) {
	seen := map[string]int{}
	for i := 0; i < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		if first, twice := seen[key.Value]; twice {
			r.fault(key, fmt.Sprintf("%q is given twice, first on line %d", key.Value, first), "keep one of them")
			continue
		}
		seen[key.Value] = key.Line
		if value.Kind == yaml.AliasNode || key.Kind == yaml.AliasNode {
			r.fault(value, "YAML aliases are not used in definitions", "write the value out")
			continue
		}
		do(key, value)
	}
}

func keyNames(known fields) []string {
	names := make([]string, 0, len(known))
	for name := range known {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

func keyList(known fields) string { return strings.Join(keyNames(known), ", ") }

func (r *reader) text(n *yaml.Node, what string) string {
	if n.Kind != yaml.ScalarNode {
		r.fault(n, what+" is one line of text", "")
		return ""
	}
	return n.Value
}

func (r *reader) ttl(n *yaml.Node, otherwise uint32) uint32 {
	seconds, err := zonefile.ParseTTL(n.Value)
	if err != nil {
		r.fault(n, err.Error(), "")
		return otherwise
	}
	return max(seconds, 1)
}

var identifier = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// accountName is the name of an account, or of a further set of zones at one.
var accountName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}(/[2-9])?$`)

func (r *reader) account(n *yaml.Node) string {
	if n.Kind != yaml.ScalarNode || !accountName.MatchString(n.Value) {
		r.fault(n, "this is no account name", "write lower-case letters, digits and hyphens, such as heron-main; or with /2 behind it, a second zone there")
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

// block is text in lines of a file: a literal block of YAML.
type block struct {
	text   string
	file   *source
	line   int // of the first line in its file
	column int // at which its lines begin
}

func (r *reader) block(n *yaml.Node) (block, bool) {
	if n.Kind != yaml.ScalarNode || n.Style&yaml.LiteralStyle == 0 {
		r.fault(n, "records are written in a block, one per line", `write "records: |" and the records below it, indented`)
		return block{}, false
	}
	return block{n.Value, r.file, n.Line + 1, r.blockColumn(n)}, true
}

// blockColumn finds the column at which the lines of a block scalar begin.
func (r *reader) blockColumn(n *yaml.Node) int {
	for i := n.Line; i < len(r.file.lines); i++ {
		if text := strings.TrimLeft(r.file.lines[i], " "); strings.TrimSpace(text) != "" {
			// The first line of content may itself begin with blanks that belong to it.
			own := len(n.Value) - len(strings.TrimLeft(n.Value, " \n"))
			own -= strings.LastIndexByte(n.Value[:own], '\n') + 1
			return len(r.file.lines[i]) - len(text) - own + 1
		}
	}
	return 1
}
