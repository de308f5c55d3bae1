package dnsname

import (
	"slices"
	"strings"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestParsePrints(t *testing.T) {
	origin := MustParse("saltmarsh-ferries.example")
	for _, c := range []struct{ text, want string }{
		{".", "."},
		{"@", "saltmarsh-ferries.example."},
		{"www", "www.saltmarsh-ferries.example."},
		{"WWW.Example.", "www.example."},
		{"_dmarc", "_dmarc.saltmarsh-ferries.example."},
		{"*.pier", "*.pier.saltmarsh-ferries.example."},
		{`a\.b`, `a\.b.saltmarsh-ferries.example.`},
		{`a\046b.`, `a\.b.`},
		{`nul\000one\001.`, `nul\000one\001.`},
		{"fähre.example.", "xn--fhre-loa.example."},
	} {
		n, err := ParseRelative(c.text, origin)
		require.NoError(t, err, c.text)
		assert.Equal(t, c.want, n.String(), c.text)
	}
}

func TestParseRefuses(t *testing.T) {
	for _, c := range []struct{ text, reason string }{
		{"", "empty"},
		{"a..b", "empty label"},
		{".a", "empty label"},
		{"a b.example", "blank"},
		{`end\`, "backslash"},
		{`x\25`, "three digits"},
		{`x\999`, "at most"},
		{strings.Repeat("a", 64) + ".example", "63 octets"},
		{strings.Repeat("abcdefg.", 32), "255 octets"},
	} {
		_, err := Parse(c.text)
		require.Error(t, err, c.text)
		assert.Contains(t, err.Error(), c.reason)
	}
	_, err := ParseRelative("www", Name{})
	assert.ErrorContains(t, err, "no origin")
}

func TestTree(t *testing.T) {
	apex, www := MustParse("example"), MustParse("www.example")
	assert.True(t, www.IsBelow(apex))
	assert.False(t, apex.IsBelow(apex))
	assert.True(t, apex.IsAtOrBelow(apex))
	assert.False(t, MustParse("notexample").IsBelow(apex))
	assert.True(t, apex.IsBelow(Root))
	assert.Equal(t, apex, www.Parent())
	assert.Equal(t, Root, apex.Parent())
	assert.True(t, Root.Parent().IsZero())
	assert.Equal(t, []string{"www", "example"}, www.Labels())
	assert.Equal(t, "www", www.Relative(apex))
	assert.Equal(t, "@", apex.Relative(apex))
	assert.Equal(t, "www.example.", www.Relative(MustParse("test")))
	assert.True(t, MustParse("*.example").IsWildcard())
	assert.Equal(t, "fähre.example", MustParse("xn--fhre-loa.example").Unicode())
	child, err := apex.Child("a.b")
	require.NoError(t, err)
	assert.Equal(t, `a\.b.example.`, child.String())
}

func TestParseSet(t *testing.T) {
	set, err := ParseSet([]string{"b.example.", "A.example", "b.example"})
	require.NoError(t, err)
	assert.Equal(t, []Name{MustParse("a.example"), MustParse("b.example")}, set)
	_, err = ParseSet([]string{"a.example", "a..b"})
	assert.ErrorContains(t, err, "a..b")
}

// The order given in RFC 4034 section 6.1 itself.
func TestCanonicalOrder(t *testing.T) {
	want := []string{"example.", "a.example.", "yljkjljk.a.example.", "z.a.example.", "zabc.a.example.", "z.example.",
		`\001.z.example.`, `*.z.example.`, `\200.z.example.`}
	var names []Name
	for _, text := range want {
		names = append(names, MustParse(text))
	}
	slices.Reverse(names)
	slices.SortFunc(names, Name.Compare)
	var got []string
	for _, n := range names {
		got = append(got, n.String())
	}
	assert.Equal(t, want, got)
}

func anyName() *rapid.Generator[Name] {
	return rapid.Custom(func(t *rapid.T) Name {
		n := Root
		for _, label := range rapid.SliceOfN(rapid.SliceOfN(rapid.Byte(), 1, 12), 0, 6).Draw(t, "labels") {
			var b []byte
			for _, c := range label {
				b = append(b, '\\', '0'+c/100, '0'+c/10%10, '0'+c%10)
			}
			child, err := ParseRelative(string(b), n)
			if err != nil {
				t.Fatal(err)
			}
			n = child
		}
		return n
	})
}

func TestLaws(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n, m := anyName().Draw(t, "n"), anyName().Draw(t, "m")
		back, err := Parse(n.String())
		if err != nil || back != n {
			t.Fatalf("parse after print: %q gave %q, %v", n, back, err)
		}
		if rel, err := ParseRelative(n.Relative(m), m); err != nil || rel != n {
			t.Fatalf("relative: %q to %q gave %q, %v", n, m, rel, err)
		}
		if FromKey(n.Key()) != n || n.NumLabels() != len(n.Labels()) {
			t.Fatalf("key or labels of %q", n)
		}
		if want := canonicalCompare(n, m); want != n.Compare(m) {
			t.Fatalf("order of %q and %q: %d, want %d", n, m, n.Compare(m), want)
		}
	})
}

// canonicalCompare follows the wording of RFC 4034 section 6.1, label by label.
func canonicalCompare(n, m Name) int {
	a, b := n.Labels(), m.Labels()
	slices.Reverse(a)
	slices.Reverse(b)
	return slices.CompareFunc(a, b, strings.Compare)
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"a.example.", `\000.b`, "fähre.example", "*", "@", `a\.b.c`, "..", `\`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		n, err := Parse(text)
		if err != nil {
			return
		}
		back, err := Parse(n.String())
		if err != nil || back != n {
			t.Fatalf("%q printed as %q, read back as %q, %v", text, n, back, err)
		}
		if text != "@" {
			if _, ok := dns.IsDomainName(n.String()); !ok {
				t.Fatalf("%q is no name to the library", n)
			}
		}
	})
}
