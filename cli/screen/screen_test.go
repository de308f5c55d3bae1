package screen

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"beacon/core/wording"
)

// Attacks are texts that would do something to a terminal, or lie about what is shown.
var attacks = []string{"\x1b[2J", "\x1b]0;title\x07", "\x1b]52;c;ZXZpbA==\x07", "\x1bP$q\x1b\\", "\u009b31m", "\u0085", "a\rb", "\b\b\bSETTLED", "\x7f", "\x00", "\x0e", "\u202eelpmaxe", "\u2066x\u2069", "\u200f", "\u061c",
	"\u2028", "\u2029", "\ufeff", "\u200b", "\U000e0041", "\xff\x9b[31m", "\xc2"}

func TestNothingFromOutsideComesRaw(t *testing.T) {
	for _, attack := range attacks {
		var out bytes.Buffer
		w := New(&out, nil)
		_, err := w.Write([]byte("before " + attack + " after\n"))
		require.NoError(t, err)
		raw := out.String()
		assert.False(t, strings.ContainsFunc(raw, wording.Hidden), "%q came as %q", attack, raw)
		assert.True(t, strings.HasPrefix(raw, "before ") && strings.HasSuffix(raw, " after\n"), "%q", raw)
		assert.Contains(t, raw, `\`, attack)

		out.Reset()
		w = New(&out, func() bool { return true })
		require.NoError(t, json.NewEncoder(w).Encode(map[string]string{"text": attack}))
		assert.False(t, strings.ContainsFunc(out.String(), wording.Hidden), "%q came as %q", attack, out.String())
		var back map[string]string
		require.NoError(t, json.Unmarshal(out.Bytes(), &back))
		if utf8.ValidString(attack) {
			assert.Equal(t, attack, back["text"], "the document says the same")
		}
	}
}

// What commands do themselves works, and a text that is written in pieces is as in one.
func TestOwnSequences(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		text := strings.Join(rapid.SliceOf(rapid.SampledFrom(append([]string{"plain", "größer", "日本", Escape + "[1m", Rewrite}, attacks...))).Draw(rt, "text"), "")
		text = strings.ToValidUTF8(text, "?") + "."
		var whole, pieces bytes.Buffer
		_, err := New(&whole, nil).Write([]byte(text))
		require.NoError(rt, err)
		w := New(&pieces, nil)
		for _, r := range text {
			if strings.Contains(mark, string(r)) { // commands write their sequences whole
				return
			}
			for _, b := range []byte(string(r)) {
				_, err := w.Write([]byte{b})
				require.NoError(rt, err)
			}
		}
		assert.Equal(rt, whole.String(), pieces.String())
	})
	var out bytes.Buffer
	_, err := New(&out, nil).Write([]byte(Escape + "[1mbold" + Escape + "[0m" + Rewrite + "\x1b[31m"))
	require.NoError(t, err)
	assert.Equal(t, "\x1b[1mbold\x1b[0m\r\x1b[K"+`\x1b[31m`, out.String())
}

func TestVisible(t *testing.T) {
	for text, want := range map[string]string{"plain\ttext\n": "plain\ttext\n", "größer 日本 👨‍👩‍👧": "größer 日本 👨‍👩‍👧", "\x1b[31m": `\x1b[31m`, "\u202e": `\u202e`, "\U000e0041": `\U000e0041`, "\xff": `\xff`, "�": "�"} {
		assert.Equal(t, want, wording.Visible(text))
	}
}
