package wording

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Hidden reports whether a character of a text from outside could change how the text around it is shown: controls of terminals (C0 but for tab and line
// feed, C1, delete), marks of direction (UAX #9), separators of lines, tags, and characters without width that are no part of words.
func Hidden(r rune) bool {
	switch {
	case r == '\t' || r == '\n':
		return false
	case r < 0x20, r >= 0x7f && r <= 0x9f:
		return true
	case r == 0x61c, r == 0x200b, r >= 0x200e && r <= 0x200f, r >= 0x2028 && r <= 0x202e, r >= 0x2060 && r <= 0x206f, r == 0xfeff, r >= 0xfff9 && r <= 0xfffb, r >= 0xe0000 && r <= 0xe007f:
		return true
	}
	return false
}

// Visible returns a text from outside with each hidden character, and each octet that is no UTF-8, written as an escape: \x1b, \u202e.
func Visible(text string) string {
	if !strings.ContainsFunc(text, func(r rune) bool { return r == utf8.RuneError || Hidden(r) }) {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRuneInString(text[i:])
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, text[i])
		case Hidden(r):
			b.WriteString(Escaped(r))
		default:
			b.WriteString(text[i : i+size])
		}
		i += size
	}
	return b.String()
}

// Escaped writes a character as an escape.
func Escaped(r rune) string {
	switch {
	case r < 0x100:
		return fmt.Sprintf(`\x%02x`, r)
	case r < 0x10000:
		return fmt.Sprintf(`\u%04x`, r)
	}
	return fmt.Sprintf(`\U%08x`, r)
}
