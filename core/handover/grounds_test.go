package handover

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Before each act of a simulated handover the report says on what evidence: with figures that hold for it.
func TestGrounds(t *testing.T) {
	s := newSimulated(rand.New(rand.NewPCG(4, 1)))
	s.first, s.signedOld, s.sign, s.loss, s.ready, s.scans = false, true, true, 0, [2]int64{}, 0
	rng := rand.New(rand.NewPCG(1, 1))
	c := Course{Domain: simDomain, Old: simOld, New: simNew, OldHere: true, Sign: true}
	seen := Seen{Sweep: s.sweep(1, rng), Margin: simMargin}
	text := strings.Join(Grounds(DoDelegate, c, nil, seen, 12), "\n")
	for _, want := range []string{"2 of 2 addresses of the new nameservers answer with authority, over UDP and TCP, serial 1", "Both sides were asked for 12 record sets, and answer the same", "The parents serve a DS",
		"of the parent answer, all with ns1.old.test, ns2.old.test"} {
		assert.Contains(t, text, want)
	}
	c.Override = []string{GateDS}
	text = strings.Join(Grounds(DoRetire, c, []Mark{{Kind: MarkSwitched, At: at(100), Until: at(4000)}}, seen, 0), "\n")
	assert.Contains(t, text, "No cache asks the old nameservers after 2030-01-01 01:06:40 UTC, since every parent serves the new ones from 2030-01-01 00:01:40 UTC on")
	assert.Contains(t, text, "Passed by a user: ds-present")
	for _, do := range []Do{DoRemoveDS, DoAddDS} {
		assert.NotEmpty(t, Grounds(do, c, nil, seen, 0), do)
	}
}
