package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Passwords and tokens do not go in plain text to another machine, unless the user says so.
func TestPlainTextIsRefused(t *testing.T) {
	a := &app{address: "http://beacon.example"}
	assert.ErrorContains(t, a.secured(), "--plain-text")
	a.plain = true
	assert.NoError(t, a.secured())
	for _, address := range []string{"https://beacon.example", "http://127.0.0.1:8053", "http://localhost:8053"} {
		assert.NoError(t, (&app{address: address}).secured(), address)
	}
}
