package faulttest

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestKnown(t *testing.T) {
	Known(t, func(t testing.TB) { assert.Equal(t, 1, 2) })
	Known(t, func(t testing.TB) { require.True(t, false); t.Log("not reached") })
	Known(t, func(testing.TB) { panic("broken") })
	gone := &testing.T{}
	Known(gone, func(testing.TB) {})
	assert.True(t, gone.Failed(), "a fault that is gone is said")
}
