package record

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
)

func TestPattern(t *testing.T) {
	zone := dnsname.MustParse("saltmarsh-ferries.example")
	for _, c := range []struct {
		pattern, name string
		typ           Type
		want          bool
	}{
		{"_acme-challenge.** TXT", "_acme-challenge", TXT, true},
		{"_acme-challenge.** TXT", "_acme-challenge.www", TXT, true},
		{"_acme-challenge.** TXT", "_acme-challenge.a.b", TXT, true},
		{"_acme-challenge.** TXT", "_acme-challenge.www", A, false},
		{"_acme-challenge.** TXT", "www._acme-challenge", TXT, false},
		{"* A", "www", A, true},
		{"* A", "a.www", A, false},
		{"* A", "@", A, false},
		{"** *", "@", MX, true},
		{"** *", "a.b.c", MX, true},
		{"@ MX", "@", MX, true},
		{"@ MX", "www", MX, false},
		{"**.office *", "printer.1.office", A, true},
		{"**.office *", "office", A, true},
		{"*.office *", "office", A, false},
		{"WWW a", "www", A, true},
		{"** *", "www.elsewhere.example.", A, false},
	} {
		p, err := ParsePattern(c.pattern, zone)
		require.NoError(t, err)
		name, err := dnsname.ParseRelative(c.name, zone)
		require.NoError(t, err)
		assert.Equal(t, c.want, p.Matches(Key{name, c.typ}), "%s on %s %s", c.pattern, c.name, c.typ)
	}
	for _, text := range []string{"", "www", "www A B", "www WORD", "a..b A", "www. A", "w*w.. A"} {
		_, err := ParsePattern(text, zone)
		assert.Error(t, err, text)
	}
}
