package outcall

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode/utf16"
)

// leastLine is from how many characters on a line of a secret of several lines, such as a private key, is secret by itself.
const leastLine = 16

// masks are the patterns of secrets that were masked lately.
var masks = struct {
	mu  sync.Mutex
	all map[string]*regexp.Regexp
}{all: map[string]*regexp.Regexp{}}

// mostMasks bounds how many are kept.
const mostMasks = 256

// masked takes a secret out of a text, however the other side spells it: as it is, or with characters escaped as in JSON, URLs, XML and HTML, also
// several times, or as a whole in base64 or hexadecimal.
func masked(text, secret string) string {
	if secret == "" || len(text) < min(len(secret), leastLine) { // no spelling is shorter than what it spells
		return text
	}
	masks.mu.Lock()
	pattern := masks.all[secret]
	masks.mu.Unlock()
	if pattern == nil {
		pattern = regexp.MustCompile(spellings(secret))
		pattern.Longest() // an escape is more than the character that it begins with
		masks.mu.Lock()
		if len(masks.all) >= mostMasks {
			clear(masks.all)
		}
		masks.all[secret] = pattern
		masks.mu.Unlock()
	}
	return pattern.ReplaceAllLiteralString(text, "…")
}

// spellings returns a pattern of all ways in which a secret may be written.
func spellings(secret string) string {
	parts := []string{secret}
	if lines := strings.Split(strings.ReplaceAll(strings.TrimSpace(secret), "\r", ""), "\n"); len(lines) > 1 {
		parts = slices.DeleteFunc(lines, func(line string) bool { return len(line) < leastLine })
	}
	var all []string
	for _, part := range parts {
		var b strings.Builder
		for _, r := range part {
			b.WriteString(spelled(r))
		}
		all = append(all, b.String())
		raw := []byte(part)
		for _, text := range []string{base64.RawStdEncoding.EncodeToString(raw), base64.RawURLEncoding.EncodeToString(raw)} {
			all = append(all, regexp.QuoteMeta(text)+"=*")
		}
		all = append(all, "(?i:"+hex.EncodeToString(raw)+")")
	}
	if len(all) == 0 { // nothing in it is long enough by itself
		return regexp.QuoteMeta(secret)
	}
	slices.SortStableFunc(all, func(a, b string) int { return len(b) - len(a) }) // the longest first
	return strings.Join(all, "|")
}

// entities are the names that characters have in XML and HTML.
var entities = map[rune]string{'&': "amp", '<': "lt", '>': "gt", '"': "quot", '\'': "apos"}

// spelled returns a pattern of one character. Escapes that were escaped again have more backslashes, "%25" for "%", or "&amp;" for "&".
func spelled(r rune) string {
	var percents strings.Builder
	for _, b := range []byte(string(r)) {
		fmt.Fprintf(&percents, "%%(?:25)*%02x", b)
	}
	unit := func(u uint16) string { return fmt.Sprintf(`\\+u%04x`, u) }
	escape := unit(uint16(r))
	if high, low := utf16.EncodeRune(r); high != '\ufffd' {
		escape = unit(uint16(high)) + unit(uint16(low)) + fmt.Sprintf(`|\\+u%08x`, r)
	}
	numbers := fmt.Sprintf(`&(?:amp;)*#(?:0*%d|x0*%x);`, r, r)
	ways := []string{`\\*` + regexp.QuoteMeta(string(r)), "(?i:" + percents.String() + ")", "(?i:" + escape + ")", "(?i:" + numbers + ")"}
	if r < 0x100 {
		ways = append(ways, fmt.Sprintf(`(?i:\\+x%02x)`, r))
	}
	if name := entities[r]; name != "" {
		ways = append(ways, `&(?:amp;)*`+name+`;`)
	}
	if r == ' ' {
		ways = append(ways, `\+`, `(?i:%(?:25)*2b)`)
	}
	return "(?:" + strings.Join(ways, "|") + ")"
}
