// Package zonefile reads and writes master files (RFC 1035 section 5, RFC 2308 section 4 for $TTL).
//
// Read goes through the whole text and reports every fault with its line and column; it never stops at the first one.
// lex.go cuts text into entries, read.go makes records of them (include.go and generate.go do two directives), write.go and
// forms.go print a zone so that equal zones are equal files. The data of single records is left to core/record.
package zonefile

import "fmt"

// Fault is one thing wrong with a text, and where it stands.
type Fault struct {
	File    string `json:"file,omitempty"`
	Line    int    `json:"line"`   // from 1
	Column  int    `json:"column"` // from 1, in octets
	Message string `json:"message"`
	Remedy  string `json:"remedy,omitempty"`
}

func (f Fault) Error() string {
	text := fmt.Sprintf("%d:%d: %s", f.Line, f.Column, f.Message)
	if f.File != "" {
		text = f.File + ":" + text
	}
	if f.Remedy != "" {
		text += "; " + f.Remedy
	}
	return text
}

// Place is a position in the text that was read.
type Place struct{ Line, Column int }
