package zonefile

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/wording"
)

// Whatever octets a record has, a file that is written of it holds them escaped: no table, editor or terminal is steered by them.
func TestFilesHoldNothingRaw(t *testing.T) {
	zone := dnsname.MustParse("a.example")
	for _, attack := range []string{"\x1b[2J\x1b[H", "\u009b2J", "\u202egpj.exe", "x\rSETTLED", "\x00\x7f\u2066\ufeff"} {
		var escaped strings.Builder
		for _, b := range []byte(attack) {
			escaped.WriteString("\\")
			escaped.WriteString(string([]byte{'0' + b/100, '0' + b/10%10, '0' + b%10}))
		}
		set, err := record.ParseSet(zone, record.TXT, 60, []string{`"` + escaped.String() + `"`})
		require.NoError(t, err)
		contents := record.ContentsOf(set)
		var b bytes.Buffer
		require.NoError(t, WriteCSV(&b, contents))
		at := strings.IndexFunc(strings.ReplaceAll(b.String(), "\r\n", "\n"), func(r rune) bool { return r != '\n' && wording.Hidden(r) })
		assert.Negative(t, at, "%q in %q", attack, b.String())
	}
}
