package handover

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"beacon/core/delegation"
)

// Where the new side accepts a domain only once it is delegated there, the registrar is asked although nobody answers; afterwards nothing goes on before somebody does.
func TestGap(t *testing.T) {
	s := newSimulated(rand.New(rand.NewPCG(4, 1)))
	s.first, s.signedOld, s.sign, s.loss, s.scans, s.oldHere, s.p = false, false, false, 0, 0, true, 3600
	s.ready = [2]int64{never, never}
	for i := range s.parents {
		s.parents[i] = simParent{}
	}
	rng := rand.New(rand.NewPCG(1, 1))
	c := Course{Domain: simDomain, Old: simOld, New: simNew, OldHere: true}
	see := func(t int64) Seen {
		w := s.sweep(t, rng)
		h := delegation.Advance(delegation.Advance(delegation.History{}, s.sweep(1, rng)), s.sweep(30, rng))
		return Seen{Sweep: w, History: delegation.Advance(h, w), Margin: simMargin * time.Second, OldPlaced: true, Registration: delegation.Registration{Active: simOld, Saved: simOld}}
	}
	d := Decide(c, nil, see(10))
	assert.Empty(t, d.Do, "without a word nothing is asked of the registrar")
	c.Gap = true
	d = Decide(c, nil, see(10))
	assert.Equal(t, []Do{DoDelegate}, d.Do)
	text := GapText(c, see(10))
	assert.Contains(t, text, "for up to 1h0m0s")
	assert.Contains(t, text, "30m0s after the change at the latest")

	s.delegated = 20
	d = Decide(c, nil, see(100_000))
	assert.NotContains(t, d.Do, DoRetire, "the old zone is the only one that answers")
	assert.Equal(t, GateNotReady, d.Closed[0].Code)
	_, ask := d.Start(Hands{})
	assert.Equal(t, AskFix, ask.Kind)
	s.ready = [2]int64{200_000, 200_000}
	d = Decide(c, []Mark{{Kind: MarkSwitched, At: at(20), Until: at(5000)}}, see(300_000))
	assert.Contains(t, d.Do, DoRetire)
	assert.False(t, strings.Contains(GapText(c, Seen{}), "Caches"), "nothing is known of caches")
}
