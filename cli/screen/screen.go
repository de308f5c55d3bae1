// Package screen writes to a terminal what commands print. Characters from outside that would change what a terminal shows, such as escape sequences and
// marks of direction in a record, a label or an error of a provider, are made visible here, wherever they come from. What the commands themselves move
// and colour is marked by characters that nobody else knows.
package screen

import (
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"unicode/utf8"

	"golang.org/x/term"

	"beacon/core/wording"
)

// mark begins what the commands themselves do: two characters of private use, drawn anew in each process.
var mark = func() string {
	var b [8]byte
	_, _ = rand.Read(b[:]) // it never fails (crypto/rand)
	at := func(n uint32) rune { return rune(0xf0000 + n%0xfffe) }
	return string([]rune{at(binary.BigEndian.Uint32(b[:4])), at(binary.BigEndian.Uint32(b[4:]))})
}()

// Escape begins an escape sequence of a terminal (ECMA-48), such as Escape + "[1m".
var Escape = mark + "e"

// Rewrite goes to the beginning of the line and clears it.
var Rewrite = mark + "r" + Escape + "[K"

// Writer makes text visible on its way to a stream.
type Writer struct {
	to   io.Writer
	json func() bool // nil, or whether what is written is JSON, in which escapes change no data

	mu   sync.Mutex
	rest []byte // the beginning of a character that the last write ended in
}

// New returns a writer to a stream.
func New(to io.Writer, json func() bool) *Writer { return &Writer{to: to, json: json} }

// IsTerminal reports whether a person sits at the end of a stream, which may be a Writer.
func IsTerminal(stream any) bool {
	if w, ok := stream.(*Writer); ok {
		stream = w.to
	}
	f, ok := stream.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// Write writes a text. It reports all of it as written, or none.
func (w *Writer) Write(b []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	text := string(append(w.rest, b...))
	w.rest = nil
	if cut := incomplete(text); cut < len(text) {
		w.rest, text = []byte(text[cut:]), text[:cut]
	}
	if _, err := io.WriteString(w.to, w.shown(text)); err != nil {
		return 0, err
	}
	return len(b), nil
}

// incomplete returns where the last character begins, if only its beginning is there.
func incomplete(text string) int {
	for i := len(text) - 1; i >= 0 && i >= len(text)-utf8.UTFMax; i-- {
		if utf8.RuneStart(text[i]) {
			if !utf8.FullRuneInString(text[i:]) {
				return i
			}
			break
		}
	}
	return len(text)
}

func (w *Writer) shown(text string) string {
	visible := wording.Visible
	if w.json != nil && w.json() {
		visible = inJSON
	}
	parts := strings.Split(text, mark)
	for i, part := range parts {
		switch {
		case i > 0 && strings.HasPrefix(part, "e"):
			parts[i] = "\x1b" + visible(part[1:])
		case i > 0 && strings.HasPrefix(part, "r"):
			parts[i] = "\r" + visible(part[1:])
		default:
			parts[i] = visible(part)
		}
	}
	return strings.Join(parts, "")
}

// inJSON writes hidden characters as JSON does (RFC 8259 section 7), so that the document says the same.
func inJSON(text string) string {
	var b strings.Builder
	for _, r := range text {
		switch {
		case !wording.Hidden(r):
			b.WriteRune(r)
		case r > 0xffff:
			r -= 0x10000
			fmt.Fprintf(&b, `\u%04x\u%04x`, 0xd800+r>>10, 0xdc00+r&0x3ff)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return b.String()
}
