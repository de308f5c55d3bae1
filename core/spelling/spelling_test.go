package spelling

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDistance(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{
		{"quay-11", "quay-11", 0}, {"quay-11", "quay-12", 1}, {"quay", "qauy", 1}, {"quay", "quays", 1},
		{"", "ab", 2}, {"abc", "xyz", 3}, {"abcdef", "a", 3},
	} {
		assert.Equal(t, c.want, Distance(c.a, c.b, 2), "%s %s", c.a, c.b)
		assert.Equal(t, c.want, Distance(c.b, c.a, 2), "%s %s", c.b, c.a)
	}
}

func TestClosest(t *testing.T) {
	got, ok := Closest("recods", []string{"label", "records", "ttl"})
	assert.True(t, ok)
	assert.Equal(t, "records", got)
	_, ok = Closest("something", []string{"label", "ttl"})
	assert.False(t, ok)
}
