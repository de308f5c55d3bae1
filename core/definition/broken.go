package definition

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"
)

// readBroken reads what can be read of a file that is not YAML as a whole: each entry of its sections by itself, so that all faults are
// reported together and each where it is.
func (r *reader) readBroken(err error) {
	parts, faults := entries(r.file.lines), 0
	var docs []*yaml.Node
	for _, p := range parts {
		var doc yaml.Node
		if partErr := yaml.Unmarshal([]byte(p.text), &doc); partErr != nil {
			faults++
			r.brokenAt(p, partErr)
		} else if len(doc.Content) > 0 {
			docs = append(docs, doc.Content[0])
		}
	}
	if faults == 0 { // it is only wrong as a whole
		r.yamlFault(err)
	}
	for _, doc := range docs {
		r.readSections(doc)
	}
}

// entry is one entry of a section of a file, with as many empty lines and the name of its section before it that its lines keep their
// numbers.
type entry struct {
	text        string
	first, last int // its lines, from 1
}

// entries divides a file into the entries of its sections by their indentation.
func entries(lines []string) (list []entry) {
	section, margin := "", -1
	var first int
	end := func(last int) {
		if first == 0 {
			return
		}
		before := ""
		if section != "" && first > 1 {
			before = strings.Repeat("\n", first-2) + section + "\n"
		} else {
			before = strings.Repeat("\n", first-1)
		}
		list = append(list, entry{before + strings.Join(lines[first-1:last], "\n") + "\n", first, last})
		first = 0
	}
	for i, line := range lines {
		text := strings.TrimLeft(line, " ")
		if strings.TrimSpace(text) == "" || text[0] == '#' {
			continue
		}
		indent := len(line) - len(text)
		switch {
		case indent == 0:
			end(i)
			section, margin = "", -1
			if strings.TrimSpace(strings.SplitN(text, " #", 2)[0]) == strings.TrimSpace(text) && strings.HasSuffix(strings.TrimSpace(text), ":") {
				section = strings.TrimSpace(text)
			} else {
				first = i + 1
			}
		case section != "" && (margin < 0 || indent <= margin):
			end(i)
			margin, first = indent, i+1
		}
	}
	end(len(lines))
	return list
}

// brokenAt reports why an entry is not YAML, at the bracket or quote that is not closed where there is one.
func (r *reader) brokenAt(p entry, err error) {
	if line, column, mark := unclosed(r.file.lines, p.first, p.last); mark != 0 {
		closing := map[byte]string{'[': "]", '{': "}", '"': `"`, '\'': "'"}[mark]
		r.faultAt(line, column, fmt.Sprintf("this %c is not closed", mark), fmt.Sprintf("add %s where it ends", closing))
		return
	}
	before := len(r.faults)
	r.yamlFault(err)
	if f := &r.faults[before]; f.Line < p.first { // the parser names no line
		f.Line = p.first
	}
}

// unclosed finds a bracket of a list or mapping, or a quote, that is not closed within some lines; mark is 0 where there is none. Block
// scalars and comments are passed over.
func unclosed(lines []string, first, last int) (line, column int, mark byte) {
	type place struct {
		line, column int
		mark         byte
	}
	var open []place
	block := -1 // the indentation of a block scalar's key, while its lines are passed over
	for n := first; n <= last; n++ {
		text := lines[n-1]
		indent := len(text) - len(strings.TrimLeft(text, " "))
		if strings.TrimSpace(text) == "" || block >= 0 && indent > block {
			continue
		}
		block = -1
		value := true // a value may begin here
		for i := indent; i < len(text); i++ {
			c := text[i]
			if k := len(open); k > 0 && (open[k-1].mark == '"' || open[k-1].mark == '\'') {
				switch {
				case c == '\\' && open[k-1].mark == '"':
					i++
				case c == open[k-1].mark:
					open = open[:k-1]
				}
				continue
			}
			switch {
			case c == '#' && (i == 0 || text[i-1] == ' '):
				i = len(text)
			case (c == '"' || c == '\'') && value, (c == '[' || c == '{') && value:
				open = append(open, place{n, i + 1, c})
			case (c == ']' || c == '}') && len(open) > 0:
				top := open[len(open)-1]
				if top.mark != c-2 { // "[" and "]", "{" and "}" are two apart
					return top.line, top.column, top.mark
				}
				open = open[:len(open)-1]
			case (c == '|' || c == '>') && value && len(open) == 0:
				block = indent
			}
			value = c == ' ' && value || c == ':' && i+1 < len(text) && text[i+1] == ' ' || c == ',' && len(open) > 0 || c == '[' || c == '{' || c == '-' && value
		}
	}
	if len(open) == 0 {
		return 0, 0, 0
	}
	top := open[len(open)-1]
	return top.line, top.column, top.mark
}
