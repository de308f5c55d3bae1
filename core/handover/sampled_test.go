package handover

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// resolver is one cache, with habits of its own. What all caches together may hold is judged elsewhere, by bounds; this one is played answer by answer.
type resolver struct {
	s         *simulated
	rng       *rand.Rand
	child     bool  // it believes the apex NS set more than the delegation
	validates bool  // it asks for the DS and keys, and lets no answer through that they do not make good
	most      int64 // the longest that it holds anything

	ns, keys, ds, answer held
	learned              bool // ns is the apex NS set
	expects              bool // the keys were made good by a DS
}

// held is a version of something: 0 none or unsigned, 1 of the old side, 2 of the new one.
type held struct {
	version int
	until   int64
}

func (r *resolver) hold(version int, t, ttl int64) held { return held{version, t + min(ttl, r.most)} }

func newResolver(s *simulated, rng *rand.Rand) *resolver {
	most := never
	if rng.IntN(3) == 0 {
		most = []int64{60, 3600, 21600}[rng.IntN(3)]
	}
	return &resolver{s: s, rng: rng, child: rng.IntN(2) == 0, validates: rng.IntN(3) != 0, most: most}
}

// visit asks for a record of the domain at a moment, and returns what went wrong.
func (r *resolver) visit(t int64) string {
	if r.answer.until <= t {
		if r.ns.until <= t {
			r.refer(t)
		}
		if r.ns.version == 0 { // it is told that there is no such domain
			if t >= r.s.ended {
				return fmt.Sprintf("at %d the domain is not there, and was said to be", t)
			}
			return ""
		}
		if wrong := r.ask(t); wrong != "" {
			return wrong
		}
	}
	if r.validates {
		return r.validate(t)
	}
	return ""
}

// parent picks a server of the parent zone, and one of the machines at its address.
func (r *resolver) parent() (server int, behind bool) {
	return r.rng.IntN(len(r.s.parents)), r.rng.IntN(2) == 0
}

func (r *resolver) refer(t int64) {
	r.learned = false
	server, behind := r.parent()
	switch {
	case r.s.serves(server, t, behind):
		r.ns = r.hold(2, t, r.s.p)
	case r.s.first:
		r.ns = r.hold(0, t, r.s.a)
	default:
		r.ns = r.hold(1, t, r.s.p)
	}
}

// ask gets the record from a server of the set that is held.
func (r *resolver) ask(t int64) string {
	if r.ns.version == 1 {
		if t >= r.s.retired {
			return fmt.Sprintf("at %d a server of the old zone is asked, which went at %d", t, r.s.retired)
		}
		signed := 0
		if r.s.signedOld {
			signed = 1
		}
		r.answer = r.hold(signed, t, r.s.r)
		version := 1
		if t >= r.s.told {
			version = 2
		}
		r.learn(version, t)
		return ""
	}
	j := r.rng.IntN(len(r.s.ready))
	if t < r.s.ready[j] || t < r.s.synced {
		return fmt.Sprintf("at %d new server %d is asked, and is not ready", t, j)
	}
	signed := 0
	if r.s.sign && t >= r.s.signed[j] {
		signed = 2
	}
	r.answer = r.hold(signed, t, r.s.r)
	r.learn(2, t)
	return ""
}

// learn takes the apex NS set in place of the delegation, once: when that has passed, the parent is asked again.
func (r *resolver) learn(version int, t int64) {
	if r.child && !r.learned {
		r.ns, r.learned = r.hold(version, t, r.s.cAt(t)), true
	}
}

// validate judges the record that is held.
func (r *resolver) validate(t int64) string {
	if r.ds.until <= t {
		server, behind := r.parent()
		r.ds = r.hold(r.s.dsAt(server, t, behind), t, r.s.dsTTL)
	}
	if r.keys.until <= t {
		r.keys, r.expects = held{}, false
	}
	if r.ds.version != 0 && !r.expects {
		if r.ns.until <= t {
			r.refer(t)
		}
		j := r.rng.IntN(len(r.s.signed))
		switch {
		case r.ns.version == 2 && r.s.sign && t >= r.s.signed[j]:
			r.keys = r.hold(2, t, r.s.k)
		case r.ns.version == 0: // there is nobody to ask, and nothing to judge
			return ""
		case r.ns.version == 1 && r.s.signedOld && t < r.s.retired:
			r.keys = r.hold(1, t, r.s.k)
		default:
			return fmt.Sprintf("at %d a DS of side %d is held, and no keys are served", t, r.ds.version)
		}
		r.expects = true
	}
	if r.ds.version != 0 && r.keys.version != r.ds.version {
		return fmt.Sprintf("at %d a DS of side %d is held, with keys of side %d", t, r.ds.version, r.keys.version)
	}
	if r.expects && r.answer.version != r.keys.version {
		return fmt.Sprintf("at %d keys of side %d are held, with an answer of side %d", t, r.keys.version, r.answer.version)
	}
	return ""
}

// sampled plays some resolvers with differing habits through a handover, thickest around each moment at which something changes.
func (s *simulated) sampled(end int64, rng *rand.Rand) (wrong []string) {
	var moments []int64
	for _, e := range s.events(end) {
		for _, step := range []int64{0, 1, s.r, s.c, s.p, s.a, s.k, s.dsTTL, s.c + s.p, s.dsTTL + s.k} {
			for _, near := range []int64{-1, 0, 1 + rng.Int64N(60)} {
				if t := e + step + near; t >= 0 && t <= end {
					moments = append(moments, t)
				}
			}
		}
	}
	slices.Sort(moments)
	moments = slices.Compact(moments)
	for range 6 {
		r := newResolver(s, rng)
		often := 1 + rng.IntN(4) // how many of the moments it sleeps through
		for _, t := range moments {
			if rng.IntN(often) > 0 {
				continue
			}
			if said := r.visit(t); said != "" {
				wrong = append(wrong, said)
				break
			}
		}
	}
	return wrong
}

// Lowering TTLs beforehand shortens the time in which caches ask either side, and loses nothing.
func TestLoweringShortensTheTimeBetween(t *testing.T) {
	var with, without int64
	moves := 0
	for seed := range uint64(120) {
		between := func(lower bool) int64 {
			rng := rand.New(rand.NewPCG(seed, 1))
			s := newSimulated(rng)
			s.lower = lower
			if s.first || !s.tells || s.c <= 3600 {
				return 0
			}
			o := s.handOver(rng, limits{})
			require.Empty(t, o.wrong, "seed %d", seed)
			require.True(t, o.done, "seed %d", seed)
			return s.retired - s.delegated
		}
		if a, b := between(true), between(false); b > 0 {
			with, without, moves = with+a, without+b, moves+1
		}
	}
	t.Logf("%d moves: %d s between with lowered TTLs, %d s without", moves, with/int64(moves), without/int64(moves))
	assert.Greater(t, moves, 5)
	assert.Less(t, with, without)
}
