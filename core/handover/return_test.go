package handover

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/evidence"
	"beacon/core/record"
)

// steps is a value that changes at moments: what it is from each of them on.
type steps []struct {
	t     int64
	value int
}

func (s steps) at(t int64) int {
	v := 0
	for _, step := range s {
		if step.t <= t {
			v = step.value
		}
	}
	return v
}

func (s *steps) set(t int64, value int) {
	*s = append(*s, struct {
		t     int64
		value int
	}{t, value})
}

// thereAndBack is a domain with two sides, 0 and 1, which it goes to and comes back from. It shares no formula with the product, nor with the other simulation.
type thereAndBack struct {
	p, c, k, dsTTL, r, n, poll int64
	signed                     [2]bool  // a side signs with keys of its own
	tells                      bool     // the apex NS set of either side can be written
	lags                       []int64  // of parent servers
	registrar, ds              steps    // which side's nameservers; 0 for no DS, else the side whose keys it is of plus 1
	told                       [2]steps // 1 where the side names the other one in its apex NS set
}

var simSides = [2][]dnsname.Name{simOld, simNew}

func newThereAndBack(rng *rand.Rand) *thereAndBack {
	pick := func(list ...int64) int64 { return list[rng.IntN(len(list))] }
	w := &thereAndBack{p: pick(300, 3600, 86400), c: pick(60, 300, 3600, 86400), k: pick(60, 3600, 86400), dsTTL: pick(300, 3600, 86400), r: pick(60, 3600, 86400), n: pick(60, 900),
		signed: [2]bool{rng.IntN(2) == 0, rng.IntN(2) == 0}, tells: rng.IntN(3) != 0}
	w.poll = max(60, max(w.p, w.c, w.k, w.dsTTL, w.r)/pick(20, 40))
	for range 1 + rng.IntN(3) {
		w.lags = append(w.lags, rng.Int64N(3*w.poll))
	}
	w.registrar.set(-never, 0)
	if w.signed[0] {
		w.ds.set(-never, 1)
	}
	return w
}

// sweep is what a check hears; nothing is lost here.
func (w *thereAndBack) sweep(t int64) evidence.Sweep {
	s := evidence.Sweep{Domain: simDomain, Began: at(t), Ended: at(t + 1), Zone: dnsname.MustParse("example")}
	for i, lag := range w.lags {
		p := evidence.ParentAnswer{Server: evidence.Server{Name: dnsname.MustParse("nic.test"), Address: fmt.Sprintf("127.0.0.%d:53", i+1)}, At: at(t), Answer: evidence.Referral,
			NS: simSides[w.registrar.at(t-lag)], TTL: uint32(w.p), AskedDS: true}
		if ds := w.ds.at(t - lag); ds != 0 {
			rr := dns.Copy([]dns.RR{simOldDS, simNewDS}[ds-1])
			rr.Header().Ttl = uint32(w.dsTTL)
			p.DS = dnssec.Records{rr}
		}
		s.Parents = append(s.Parents, p)
	}
	for side, names := range simSides {
		for j, name := range names {
			a := evidence.ServerAnswer{Server: evidence.Server{Name: name, Address: fmt.Sprintf("127.0.%d.%d:53", side+1, j+1)}, At: at(t), Answer: evidence.Positive,
				NS: simSides[(side+w.told[side].at(t))%2], NSTTL: uint32(w.c), SOA: evidence.SOA{Serial: 1, Negative: uint32(w.n)}}
			if w.signed[side] {
				key := dns.Copy([]dns.RR{simOldKey, simNewKey}[side])
				key.Header().Ttl = uint32(w.k)
				a.Keys = dnssec.Records{key}
			}
			s.Servers = append(s.Servers, a)
		}
	}
	return s
}

// lead lets Decide lead to a side until it is done, or until a moment; it returns when it stopped, and whether it was done.
func (w *thereAndBack) lead(rng *rand.Rand, l limits, to int, sign bool, h *delegation.History, t, until int64) (int64, bool) {
	c := Course{Domain: simDomain, Old: simSides[1-to], New: simSides[to], OldHere: true, OldTells: w.tells, KeepOld: true, Sign: sign && w.signed[to]}
	var marks []Mark
	for limit := 4000; limit > 0 && t < until; limit-- {
		s := w.sweep(t)
		*h = delegation.Advance(*h, s)
		active := simSides[w.registrar.at(t)]
		var holds []record.Data
		if w.ds.at(t) != 0 {
			holds = []record.Data{"a DS"}
		}
		seen := Seen{Sweep: s, History: *h, Registration: delegation.Registration{Active: active, Saved: active, DS: holds}, Margin: simMargin * time.Second, LargestTTL: uint32(max(w.r, w.n, w.k, w.c)), OldPlaced: true}
		if w.told[to].at(t) == 1 { // it names the other side, from the way there: its own sync takes that back
			seen.Behind = []string{"back"}
		}
		d := decide(c, marks, seen, l)
		marks = append(marks, d.Marks...)
		if d.Phase == Done {
			return t, true
		}
		for _, do := range d.Do {
			moment := t + 1 + rng.Int64N(5)
			switch do {
			case DoSync:
				w.told[to].set(moment, 0)
			case DoRemoveDS:
				w.ds.set(moment, 0)
			case DoDelegate:
				w.registrar.set(moment, to)
			case DoTellOld:
				if w.told[1-to].at(moment) == 0 {
					w.told[1-to].set(moment, 1)
				}
			case DoAddDS:
				w.ds.set(moment, to+1)
			}
		}
		next := t + w.poll
		for _, wait := range d.Wait {
			if ends := int64(wait.Until.Sub(simStart) / time.Second); !wait.Until.IsZero() && ends >= t {
				next = min(next, ends+1)
			}
		}
		t = next
	}
	return t, false
}

// judge looks at each moment what any cache that obeys TTLs may hold, of both sides.
func (w *thereAndBack) judge(end int64) (wrong []string) {
	moments := []int64{0, end}
	for _, s := range []steps{w.registrar, w.ds} {
		for _, step := range s {
			for _, lag := range w.lags {
				moments = append(moments, step.t+lag)
			}
		}
	}
	for _, s := range w.told {
		for _, step := range s {
			moments = append(moments, step.t)
		}
	}
	moments = slices.DeleteFunc(moments, func(t int64) bool { return t < 0 || t > end })
	slices.Sort(moments)
	moments = slices.Compact(moments)
	var parent, child, data, keys [2]int64 // until when caches may hold a side's delegation, its apex NS set, its data, and keys that a DS made good
	var ds [3]int64
	for i := 0; i+1 < len(moments); i++ {
		a, b := moments[i], moments[i+1]
		var served [3]bool
		for _, lag := range w.lags {
			parent[w.registrar.at(a-lag)] = max(parent[w.registrar.at(a-lag)], b+w.p)
			served[w.ds.at(a-lag)] = true
		}
		for v := 1; v <= 2; v++ {
			if served[v] {
				ds[v] = max(ds[v], b+w.dsTTL)
			}
		}
		for range 2 { // a copy of one side's apex NS set leads to the other's
			for side := range 2 {
				if until := min(b, max(parent[side], child[side])); until > a {
					named := (side + w.told[side].at(a)) % 2
					child[named] = max(child[named], until+w.c)
				}
			}
		}
		for side := range 2 {
			asked := min(b, max(parent[side], child[side]))
			other := 1 - side
			if asked > a && max(ds[other+1], keys[other]) > a {
				wrong = append(wrong, fmt.Sprintf("side %d is asked at %d, and validators hold the other's DS until %d, keys until %d", side, a, ds[other+1], keys[other]))
			}
			if served[side+1] && data[other] > a {
				wrong = append(wrong, fmt.Sprintf("the DS of side %d is served at %d, and data of the other is held until %d", side, a, data[other]))
			}
			if served[side+1] && !w.signed[side] {
				wrong = append(wrong, fmt.Sprintf("the DS of side %d is served at %d, which is not signed", side, a))
			}
			if asked > a {
				data[side] = max(data[side], asked+max(w.r, w.n, w.k))
				if until := min(asked, ds[side+1]); until > a {
					keys[side] = max(keys[side], until+w.k)
				}
			}
		}
	}
	return wrong
}

// A user goes back at any moment of a handover, before and after the registrar was asked: no cache ever gets a wrong answer, and the domain is back in the end. Without
// waiting for what keeps refreshing at the side that was left, some do.
func TestGoingBackFromEveryState(t *testing.T) {
	n := 150
	if os.Getenv("BEACON_SOAK") != "" {
		n = 5000
	}
	ended, phases := 0, map[string]int{}
	for seed := range uint64(n) {
		wrong, phase, back := goBack(t, seed, limits{})
		assert.Empty(t, wrong, "seed %d", seed)
		phases[phase]++
		if back {
			ended++
		}
	}
	t.Logf("%d ways there and back, %d ended: turned %v", n, ended, phases)
	assert.GreaterOrEqual(t, ended, n*99/100)
	noticed := 0
	for seed := range uint64(n) {
		if wrong, _, _ := goBack(t, seed, limits{off: map[string]bool{"what keeps refreshing": true}}); len(wrong) > 0 {
			noticed++
		}
	}
	t.Logf("without waiting for what keeps refreshing: %d of %d wrong", noticed, n)
	assert.Positive(t, noticed)
}

// goBack leads a domain to the other side, and back from a moment by chance.
func goBack(t *testing.T, seed uint64, l limits) (wrong []string, phase string, back bool) {
	w := newThereAndBack(rand.New(rand.NewPCG(seed, 7)))
	var h delegation.History
	whole, _ := newThereAndBack(rand.New(rand.NewPCG(seed, 7))).lead(rand.New(rand.NewPCG(seed, 8)), l, 1, true, new(delegation.History), 1, never)
	rng := rand.New(rand.NewPCG(seed, 9))
	stopped, done := w.lead(rand.New(rand.NewPCG(seed, 8)), l, 1, true, &h, 1, 1+rng.Int64N(whole+whole/4))
	switch {
	case done:
		phase = "done"
	case len(w.registrar) == 1: // the handover ends, and that is all
		return w.judge(stopped + 10*86400), "before the change", true
	default:
		phase = "after the change"
	}
	end, back := w.lead(rng, l, 0, false, &h, stopped+1, never)
	assert.True(t, !back || w.registrar.at(end) == 0, "seed %d", seed)
	return w.judge(end + 10*86400), phase, back
}
