package gather

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
)

// Who knows all names gets exactly what the zone contains; who knows some of them gets nothing that it does not contain.
func TestAskingFindsTheZone(t *testing.T) {
	for seed := range uint64(400) {
		rng := rand.New(rand.NewPCG(seed, 5))
		lines, names := drawn(rng)
		s := style{compact: seed%4 == 1, oddTypes: seed%4 == 3}
		server := authorityOf(s, lines...)
		known, err := dnsname.ParseSet(names)
		require.NoError(t, err)
		a := NewAsking(zone, Options{Names: known, Label: "nobody-has-this"})
		play(a, server.answer, rng)
		got := a.Outcome("ns1.old.test")
		lack, more := apart(server.truth(), linesOf(got.Contents))
		require.Empty(t, lack, "zone %d, %+v", seed, s)
		require.Empty(t, more[:min(3, len(more))], "zone %d, %+v", seed, s)
		require.Empty(t, got.Doubts, "zone %d", seed)
		if !s.oddTypes {
			require.Equal(t, Unknown, got.Claim, "nobody can tell that of an unsigned zone")
		}

		few := slices.DeleteFunc(slices.Clone(known), func(dnsname.Name) bool { return rng.IntN(2) == 0 })
		a = NewAsking(zone, Options{Names: few, Label: "nobody-has-this"})
		play(a, server.answer, rng)
		_, more = apart(server.truth(), linesOf(a.Outcome("").Contents))
		require.Empty(t, more[:min(3, len(more))], "zone %d", seed)
	}
}

func TestAskingKnowsWhatIsNoData(t *testing.T) {
	for _, tt := range []struct {
		name   string
		style  style
		lines  []string
		child  string
		wanted []string // kind and key of doubts
		lack   string   // what must not be among the records
	}{
		{"an alias at the apex", style{flat: true}, []string{"a.example. 300 IN A 192.0.2.1"}, "", []string{"counts-down a.example. A"}, ""},
		{"an answer by place", style{place: true}, []string{"a.example. 300 IN A 192.0.2.1"}, "", []string{"by-place a.example. A"}, ""},
		{"an answer for every name", style{all: true}, []string{"www.a.example. 300 IN A 192.0.2.1"}, "", []string{"every-name *.a.example. A"}, "192.0.2.250"},
		{"a zone below on the same server", style{}, []string{"lab.a.example. 300 IN A 192.0.2.3"}, "lab.a.example.", []string{"child-zone lab.a.example. NS"}, "lab.a.example."},
	} {
		t.Run(tt.name, func(t *testing.T) {
			server := authorityOf(tt.style, tt.lines...)
			if tt.child != "" {
				delete(server.sets, tt.child)
				server.add(server.children, tt.child+" 300 IN NS ns1.old.test.")
			}
			a := NewAsking(zone, Options{Label: "nobody-has-this"})
			play(a, server.answer, rand.New(rand.NewPCG(1, 1)))
			got := a.Outcome("")
			var doubts []string
			for _, d := range got.Doubts {
				doubts = append(doubts, fmt.Sprintf("%s %s", d.Kind, d.Key))
				assert.NotEmpty(t, d.Data)
			}
			assert.Equal(t, tt.wanted, doubts)
			for _, line := range linesOf(got.Contents) {
				if tt.lack != "" {
					assert.NotContains(t, line, tt.lack)
				}
			}
		})
	}
}

func TestAskingIsPolite(t *testing.T) {
	server := authorityOf(style{}, "a.example. 300 IN A 192.0.2.1", "*.a.example. 300 IN A 192.0.2.9")
	a := NewAsking(zone, Options{Label: "nobody-has-this"})
	play(a, server.answer, rand.New(rand.NewPCG(1, 1)))
	assert.Equal(t, []string{"*.a.example. 300 IN A 192.0.2.9", "a.example. 300 IN A 192.0.2.1"}, linesOf(a.Outcome("").Contents))
	assert.Less(t, server.asked, 2*len(usualLabels)+100, "a wildcard costs a question or two a name")

	silent := NewAsking(zone, Options{Label: "nobody-has-this"})
	play(silent, authorityOf(style{}).silence, rand.New(rand.NewPCG(1, 1)))
	got := silent.Outcome("")
	assert.LessOrEqual(t, got.Asked, mostSilent+8)
	assert.Equal(t, Partial, got.Claim)
	assert.Contains(t, got.Why, "stopped answering")

	most := NewAsking(zone, Options{Label: "nobody-has-this", Most: 30})
	play(most, server.answer, rand.New(rand.NewPCG(1, 1)))
	assert.Equal(t, "broken off after 30 questions", most.Outcome("").Why)
	assert.Contains(t, linesOf(most.Outcome("").Contents), "a.example. 300 IN A 192.0.2.1")
}
