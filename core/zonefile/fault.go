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
