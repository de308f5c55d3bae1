package handover

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"beacon/core/delegation"
	"beacon/core/evidence"
)

// The old TTL of an NS set is learned before it is lowered: caches may hold the set under it, and nothing else tells of that afterwards.
func TestLoweringWaitsUntilTheOldSideWasHeard(t *testing.T) {
	s := newSimulated(rand.New(rand.NewPCG(1, 1)))
	s.first, s.loss, s.oldHere = false, 0, true
	c := Course{Domain: simDomain, Old: simOld, New: simNew, OldHere: true, OldTells: true, Lower: true}
	w := s.sweep(1, rand.New(rand.NewPCG(1, 1)))
	decided := func(w evidence.Sweep) []Do {
		return Decide(c, nil, Seen{Sweep: w, History: delegation.Advance(delegation.History{}, w), Registration: delegation.Registration{Active: simOld, Saved: simOld}, OldPlaced: true, Margin: simMargin}).Do
	}
	assert.Contains(t, decided(w), DoLower)
	for i := range w.Servers {
		silent(&w.Servers[i])
	}
	assert.NotContains(t, decided(w), DoLower)
}
