package dnsname

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestZoneProblem(t *testing.T) {
	for text, wrong := range map[string]bool{
		"saltmarsh-ferries.example": false, "_acme.saltmarsh-ferries.example": false, "example": false, "xn--mller-kva.example": false,
		"2.0.192.in-addr.arpa": false, "0/25.2.0.192.in-addr.arpa": false, "0-25.2.0.192.in-addr.arpa": false, "8.b.d.0.1.0.0.2.ip6.arpa": false, "1e100.example": false,
		"192.0.2.1": true, "https://x/": true, "a/b.example": true, "2001:db8::1": true, ".": true, `a\032b.example`: true, "*.example": true, "a@b.example": true,
	} {
		assert.Equal(t, wrong, MustParse(text).ZoneProblem() != "", "%s: %s", text, MustParse(text).ZoneProblem())
	}
}
