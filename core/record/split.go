package record

import "strings"

// SplitLong parts every quoted string of more than 255 octets, which no record can hold as one (RFC 1035 section 3.3), into several.
// It reports whether there was any.
func SplitLong(line string) (string, bool) {
	var b strings.Builder
	octets, quoted, split := 0, false, false
	for i := 0; i < len(line); i++ {
		size := 1
		switch {
		case line[i] == '"':
			quoted, octets = !quoted, -1
		case line[i] == '\\' && i+3 < len(line) && '0' <= line[i+1] && line[i+1] <= '9':
			size = 4
		case line[i] == '\\' && i+1 < len(line):
			size = 2
		}
		if octets++; quoted && octets > 255 {
			b.WriteString(`" "`)
			octets, split = 1, true
		}
		b.WriteString(line[i : i+size])
		i += size - 1
	}
	return b.String(), split
}
