package profile

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/yosida95/uritemplate/v3"
	"go.yaml.in/yaml/v3"

	"beacon/profile/jq"
)

// reader takes a profile apart and keeps what is wrong with it.
type reader struct {
	file   string
	lines  []string
	faults []Fault
	known  map[string]bool // every key that may stand somewhere in the file

	targets string   // how names in data are written
	hosts   []string // names of further addresses
}

func (r *reader) fault(n *yaml.Node, remedy, format string, args ...any) {
	r.faults = append(r.faults, Fault{r.file, max(1, n.Line), max(1, n.Column), fmt.Sprintf(format, args...), remedy})
}

// section is a mapping, key by key.
type section struct {
	*reader
	node *yaml.Node
	name string
	at   map[string]*yaml.Node
}

// section takes a mapping that may have the given keys. Those that begin with an exclamation mark must be there.
func (r *reader) section(n *yaml.Node, name string, keys ...string) section {
	s := section{r, n, name, map[string]*yaml.Node{}}
	if n.Kind != yaml.MappingNode {
		r.fault(n, "", "%s is a list of keys and values", name)
		return s
	}
	var known []string
	for _, key := range keys {
		known = append(known, strings.TrimPrefix(key, "!"))
		r.known[strings.TrimPrefix(key, "!")] = true
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := n.Content[i]
		switch {
		case slices.Contains(known, formerKeys[key.Value]):
			r.fault(key, fmt.Sprintf("Write %q.", formerKeys[key.Value]), "%q is called %q now", key.Value, formerKeys[key.Value])
		case !slices.Contains(known, key.Value):
			r.fault(key, "It knows: "+strings.Join(known, ", ")+".", "%q is not known in %s", key.Value, name)
		case s.at[key.Value] != nil:
			r.fault(key, "Remove one of them.", "%q is in %s twice", key.Value, name)
		default:
			s.at[key.Value] = n.Content[i+1]
		}
	}
	for _, key := range keys {
		if name, must := strings.CutPrefix(key, "!"); must && s.at[name] == nil {
			r.fault(n, "", "%q is missing in %s", name, s.name)
		}
	}
	return s
}

func (s section) has(key string) bool { return s.at[key] != nil }

// text takes a scalar; empty where it is missing.
func (s section) text(key string) string {
	n := s.at[key]
	if n == nil {
		return ""
	}
	if n.Kind != yaml.ScalarNode {
		s.fault(n, "", "%q in %s is a text", key, s.name)
		return ""
	}
	return n.Value
}

// choice takes one of the given words.
func (s section) choice(key string, words ...string) string {
	text := s.text(key)
	if s.has(key) && !slices.Contains(words, text) {
		s.fault(s.at[key], "Use one of: "+strings.Join(words, ", ")+".", "%q cannot be %q", key, text)
		return ""
	}
	return text
}

// flag takes true or false.
func (s section) flag(key string) (value bool) {
	if n := s.at[key]; n != nil && n.Decode(&value) != nil {
		s.fault(n, "", "%q is true or false", key)
	}
	return value
}

// number takes a whole number from 0 to most.
func (s section) number(key string, most int) (value int) {
	if n := s.at[key]; n != nil && (n.Decode(&value) != nil || value < 0 || value > most) {
		s.fault(n, "", "%q is a number from 0 to %d", key, most)
		return 0
	}
	return value
}

// list takes the scalars of a list.
func (s section) list(key string) (values []*yaml.Node) {
	n := s.at[key]
	if n == nil {
		return nil
	}
	if n.Kind != yaml.SequenceNode {
		s.fault(n, "Write it in square brackets.", "%q in %s is a list", key, s.name)
		return nil
	}
	for _, item := range n.Content {
		if item.Kind == yaml.ScalarNode {
			values = append(values, item)
		} else {
			s.fault(item, "", "%q in %s is a list of words", key, s.name)
		}
	}
	return values
}

// expression takes a jq program, and shows the place in it where it is wrong.
func (s section) expression(key string) expression { return s.expressionWith(key, nil) }

// expressionWith takes one that may use the values that earlier steps took.
func (s section) expressionWith(key string, taken []string) expression {
	text := s.text(key)
	if text == "" {
		return ""
	}
	s.checkExpression(s.at[key], key, taken)
	return expression(text)
}

func (r *reader) checkExpression(n *yaml.Node, key string, taken []string) {
	names := slices.Clone(variables)
	for _, t := range taken {
		names = append(names, "$"+t)
	}
	err := jq.Check(n.Value, names...)
	var wrong *jq.Fault
	if !errors.As(err, &wrong) {
		return
	}
	line, column := r.within(n, wrong.Offset)
	r.faults = append(r.faults, Fault{r.file, line, column, fmt.Sprintf("%q is no jq expression: %s", key, wrong.Message), ""})
}

// within returns the place of an octet of a scalar, which may be a block of several lines.
func (r *reader) within(n *yaml.Node, offset int) (line, column int) {
	before := n.Value[:min(offset, len(n.Value))]
	rows, last := strings.Count(before, "\n"), before[strings.LastIndexByte(before, '\n')+1:]
	if n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) == 0 {
		quote := 0
		if n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0 {
			quote = 1
		}
		return n.Line + rows, n.Column + quote + len(last)
	}
	line = n.Line + 1 + rows
	if line <= len(r.lines) {
		text := r.lines[line-1]
		column = len(text) - len(strings.TrimLeft(text, " "))
	}
	return line, column + len(last) + 1
}

// hostOf takes the name of one of the account's further addresses.
func (s section) hostOf(key string) string {
	text := s.text(key)
	if text != "" && !slices.Contains(s.hosts, text) {
		s.fault(s.at[key], "Name it under hosts.", "%q is no further address of the account", text)
	}
	return text
}

// methods are the requests that a profile may make.
var methods = []string{"GET", "POST", "PUT", "PATCH", "DELETE"}

// request takes "METHOD /path{template}", whose variables are among the given ones.
func (s section) request(key string, names ...string) (method string, path *uritemplate.Template) {
	n := s.at[key]
	if n == nil {
		return "", nil
	}
	method, text, _ := strings.Cut(s.text(key), " ")
	if !slices.Contains(methods, method) || !strings.HasPrefix(text, "/") || strings.HasPrefix(text, "//") {
		s.fault(n, "Write a method and a path, such as: GET /zones{?cursor}.", "%q cannot be a request", s.text(key))
		return "", nil
	}
	path, err := uritemplate.New(text)
	if err != nil {
		s.fault(n, "See RFC 6570.", "%q is no URI template", text)
		return "", nil
	}
	for _, name := range path.Varnames() {
		first, _, _ := strings.Cut(name, ".")
		if !slices.Contains(names, first) {
			s.fault(n, "Here it can use: "+strings.Join(names, ", ")+".", "the template has no value for {%s}", name)
		}
	}
	return method, path
}
