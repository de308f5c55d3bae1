package handover

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
)

// Where everything is prompt and nothing is lost, what is foreseen is what happens, to within a few checks.
func TestForecastComesTrue(t *testing.T) {
	acts := 0
	for seed := range uint64(200) {
		rng := rand.New(rand.NewPCG(seed, 2))
		s := newSimulated(rng)
		s.loss, s.ready, s.signed, s.tells, s.cdsOld, s.cdsNew = 0, [2]int64{}, [2]int64{}, s.oldHere, 0, 0
		for i := range s.parents {
			s.parents[i] = simParent{}
		}
		o := s.handOver(rng, limits{})
		require.True(t, o.done, "seed %d", seed)
		foreseen := map[Do]bool{}
		within := float64(7 * s.poll)
		if s.lower { // two checks more
			within += float64(2 * s.poll)
		}
		for _, station := range o.forecast {
			for _, do := range station.Do {
				foreseen[do] = true
				acts++
				require.Contains(t, o.acted, do, "seed %d: %s is foreseen, and was not done", seed, do)
				assert.InDelta(t, o.acted[do], station.At.Sub(simStart).Seconds(), within, "seed %d: %s", seed, do)
			}
		}
		for do := range o.acted {
			assert.True(t, foreseen[do], "seed %d: %s was done, and not foreseen: %v", seed, do, o.forecast)
		}
		last := o.forecast[len(o.forecast)-1]
		assert.Equal(t, Done, last.Phase, "seed %d: %v", seed, o.forecast)
		assert.InDelta(t, o.end, last.At.Sub(simStart).Seconds(), within, "seed %d: the end", seed)
	}
	assert.Greater(t, acts, 500)
}

// A forecast ends at a gate that only a user can open, and returns it.
func TestForecastStopsAtAClosedGate(t *testing.T) {
	s := newSimulated(rand.New(rand.NewPCG(3, 2)))
	s.first, s.signedOld, s.loss, s.ready = false, false, 0, [2]int64{never, never}
	w := s.sweep(1, rand.New(rand.NewPCG(1, 1)))
	list := Forecast(Course{Domain: simDomain, Old: simOld, New: simNew}, Seen{Sweep: w, History: delegation.Advance(delegation.History{}, w), Margin: time.Minute}, time.Minute, Calendar{})
	last := list[len(list)-1]
	require.NotEqual(t, Done, last.Phase)
	require.NotEmpty(t, last.Closed, "%v", list)
	assert.Equal(t, GateNotReady, last.Closed[0].Code)
}

func BenchmarkForecast(b *testing.B) {
	rng := rand.New(rand.NewPCG(1, 2))
	s := newSimulated(rng)
	w := s.sweep(1, rng)
	seen := Seen{Sweep: w, History: delegation.Advance(delegation.History{}, w), Behind: []string{"new"}, Margin: time.Minute, LargestTTL: 3600, OldPlaced: true}
	for b.Loop() {
		Forecast(Course{Domain: simDomain, Old: simOld, New: simNew, OldHere: true, OldTells: true, Sign: true}, seen, time.Minute, Calendar{})
	}
}
