package meter

import (
	"bytes"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"beacon/cli/screen"
)

// steps shows a work of ten steps, two seconds each.
func steps(terminal bool) string {
	var out bytes.Buffer
	now := time.Date(2030, 3, 1, 12, 0, 0, 0, time.UTC)
	m := at(&out, terminal, "syncs", func() time.Time { return now })
	for i := range 11 {
		m.At(int64(i), 10, "")
		now = now.Add(2 * time.Second)
	}
	m.Clear()
	return out.String()
}

func TestInAPipe(t *testing.T) {
	assert.Equal(t, "syncs: 1 of 10, about 18s left\nsyncs: 4 of 10, about 12s left\nsyncs: 7 of 10, about 6s left\nsyncs: 10 of 10\n", steps(false))
}

func TestOnATerminal(t *testing.T) {
	out := steps(true)
	assert.NotContains(t, out, "\n", "one line")
	assert.Equal(t, 10, strings.Count(out, " of 10"))
	assert.Contains(t, out, "syncs ███████████████░░░░░░░░░░░░░░░ 5 of 10, about 10s left")
	assert.True(t, strings.HasSuffix(out, screen.Rewrite))
}

// What is over within a second shows nothing.
func TestShortWorkIsQuiet(t *testing.T) {
	var out bytes.Buffer
	m := New(&out, "import")
	m.At(3, 4, "")
	assert.Error(t, m.While(func() error { return errors.New("broken") }))
	assert.Empty(t, out.String())
}
