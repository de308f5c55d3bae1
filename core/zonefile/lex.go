package zonefile

import "strings"

// field is one token of an entry: text as written, with quotes and escapes.
type field struct {
	text  string
	place Place
}

// entry is one logical line: comments gone, parentheses joined (RFC 1035 section 5.1).
type entry struct {
	fields   []field
	place    Place // of the first field
	indented bool  // begins with a blank: the owner is the one before
}

// lexer cuts a text into entries. It keeps no more than one entry at a time.
type lexer struct {
	text   string
	pos    int
	line   int // of pos, from 1
	start  int // where the line of pos begins
	entry  entry
	faults func(Place, string, string)
}

func (l *lexer) here() Place { return Place{l.line, l.pos - l.start + 1} }

// next reads the next entry that has fields; false at the end of the text.
func (l *lexer) next() bool {
	for l.pos < len(l.text) {
		l.entry.fields = l.entry.fields[:0]
		c := l.text[l.pos]
		l.entry.indented = c == ' ' || c == '\t'
		l.readEntry()
		if len(l.entry.fields) > 0 {
			l.entry.place = l.entry.fields[0].place
			return true
		}
	}
	return false
}

// longestEntry bounds one record as text, in octets: 64 kB of data, each octet escaped, fit into it.
const longestEntry = 1 << 19

// readEntry reads to the end of the logical line and collects its fields.
func (l *lexer) readEntry() {
	var open []Place // parentheses not yet closed
	begin := l.pos
	for l.pos < len(l.text) {
		if l.pos-begin > longestEntry {
			l.faults(l.here(), "the record goes on for longer than any record can", "check that this is a zone file, and that every parenthesis is closed")
			l.entry.fields = l.entry.fields[:0]
			if end := strings.IndexByte(l.text[l.pos:], '\n'); end >= 0 {
				l.pos += end
			} else {
				l.pos = len(l.text)
			}
			open = nil
			begin = l.pos
			continue
		}
		switch c := l.text[l.pos]; c {
		case '\n':
			l.pos++
			l.line++
			l.start = l.pos
			if len(open) == 0 {
				return
			}
		case ' ', '\t', '\r':
			l.pos++
		case ';':
			if end := strings.IndexByte(l.text[l.pos:], '\n'); end >= 0 {
				l.pos += end
			} else {
				l.pos = len(l.text)
			}
		case '(':
			open = append(open, l.here())
			l.pos++
		case ')':
			if len(open) == 0 {
				l.faults(l.here(), "a parenthesis is closed that was never opened", "remove it, or put it in quotes")
			} else {
				open = open[:len(open)-1]
			}
			l.pos++
		default:
			l.readField()
		}
	}
	for _, place := range open {
		l.faults(place, "a parenthesis is opened and never closed", `add ")" at the end of the record`)
	}
}

// readField reads one token; a quoted part may contain blanks, but no line break.
func (l *lexer) readField() {
	begin, place := l.pos, l.here()
	quoted := false
	var quote Place
	for l.pos < len(l.text) && l.pos-begin <= longestEntry {
		c := l.text[l.pos]
		if c == '\n' {
			break
		}
		if c == '\\' && l.pos+1 < len(l.text) && l.text[l.pos+1] != '\n' {
			l.pos += 2
			continue
		}
		if c == '"' {
			quoted, quote = !quoted, l.here()
		} else if !quoted && strings.IndexByte(" \t\r;()", c) >= 0 {
			break
		}
		l.pos++
	}
	if quoted {
		l.faults(quote, "a quote is opened and not closed on this line", `add the closing quote; a long text is split into several "…" parts`)
		return
	}
	l.entry.fields = append(l.entry.fields, field{l.text[begin:l.pos], place})
}
