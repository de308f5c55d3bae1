package paste

import "strings"

// plain are the characters that pages and word processors put in the place of others; empty for those that cannot be seen.
var plain = map[rune]string{
	'“': `"`, '”': `"`, '„': `"`, '‟': `"`, '«': `"`, '»': `"`, '″': `"`,
	'‘': "'", '’': "'", '‚': "'", '‛': "'",
	'‐': "-", '‑': "-", '‒': "-", '–': "-", '—': "-", '−': "-",
	'\u00a0': " ", '\u2002': " ", '\u2003': " ", '\u2007': " ", '\u2009': " ", '\u202f': " ", '\u3000': " ",
	'\u00ad': "", '\u200b': "", '\u200c': "", '\u200d': "", '\u2060': "", '\ufeff': "", '\u200e': "", '\u200f': "",
	'…': "...",
}

func clean(line string) (text string, changed bool) {
	if !strings.ContainsFunc(line, func(c rune) bool { _, odd := plain[c]; return odd }) {
		return line, false
	}
	var b strings.Builder
	for _, c := range line {
		if with, odd := plain[c]; odd {
			b.WriteString(with)
		} else {
			b.WriteRune(c)
		}
	}
	return b.String(), true
}

// isRule reports a line that is drawn between the rows of a table.
func isRule(line string) bool { return strings.Trim(line, "-=+|: \t_") == "" }
