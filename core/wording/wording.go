package wording

import (
	"fmt"
	"strings"
)

// Sentence returns text with a capital letter at its beginning.
func Sentence(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

// Counted returns a number with its noun, in the plural where the number is not one.
func Counted(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
