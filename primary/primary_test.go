package primary

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Serials go round: what is newer is told by distance (RFC 1982 section 3.2).
func TestSerials(t *testing.T) {
	for _, c := range []struct {
		a, b  uint32
		newer bool
	}{{2, 1, true}, {1, 2, false}, {1, 1, false}, {0, 0xffffffff, true}, {0xffffffff, 0, false}, {0x80000000, 1, true}, {0x80000001, 1, false}, {5, 0xfffffff0, true}} {
		assert.Equal(t, c.newer, Newer(c.a, c.b), "%d after %d", c.a, c.b)
	}
	assert.EqualValues(t, 8, NextSerial(3, 7, 5))
	assert.EqualValues(t, 4, NextSerial(0xfffffff0, 3), "three is after a number close to the end")
	assert.EqualValues(t, 1, NextSerial(0xffffffff), "never zero")
	assert.EqualValues(t, 1, NextSerial(0))
}
