package access

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRights(t *testing.T) {
	reader := Caller{Rights: []Right{Read}}
	assert.True(t, reader.May(Read))
	assert.False(t, reader.May(Write), "reading is not writing")
	assert.False(t, Caller{}.May(Read), "nobody may nothing")
	for _, r := range All() {
		assert.True(t, Caller{Rights: All()}.May(r))
		assert.False(t, Caller{Rights: All()}.May(""), "there is no right without a name")
	}
	rights, err := Parse([]string{"read", "manage"})
	require.NoError(t, err)
	assert.Equal(t, []Right{Read, Manage}, rights)
	_, err = Parse([]string{"read", "everything"})
	assert.ErrorContains(t, err, `"everything"`)
}
