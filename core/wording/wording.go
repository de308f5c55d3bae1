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

// Seconds shows a time such as a TTL, in seconds, in the largest unit that fits it: "2 h", "90 s".
func Seconds(n uint32) string {
	for _, unit := range []struct {
		size uint32
		name string
	}{{86400, "d"}, {3600, "h"}, {60, "min"}} {
		if n >= unit.size && n%unit.size == 0 {
			return fmt.Sprintf("%d %s", n/unit.size, unit.name)
		}
	}
	return fmt.Sprintf("%d s", n)
}
