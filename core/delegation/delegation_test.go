package delegation

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/record"
)

var (
	domain = dnsname.MustParse("saltmarsh-ferries.example")
	oldSet = set("oak-1.plover.test", "oak-2.plover.test")
	newSet = set("quay-11.heron.test", "quay-14.heron.test")
	start  = time.Date(2030, 3, 1, 12, 0, 0, 0, time.UTC)
	apexA  = record.Key{Name: domain, Type: record.A}
)

func set(texts ...string) (out []dnsname.Name) {
	for _, text := range texts {
		out = append(out, dnsname.MustParse(text))
	}
	return dnsname.SortSet(out)
}

// Two networks, and IPv6.
var addressOfTest = map[string]string{"oak-1.plover.test": "192.0.2.1:53", "oak-2.plover.test": "[2001:db8::2]:53", "quay-11.heron.test": "198.51.100.11:53",
	"quay-14.heron.test": "[2001:db8:1::14]:53", "quay-15.heron.test": "198.51.100.15:53"}

func soaOf(provider string) evidence.SOA {
	return evidence.SOA{Primary: dnsname.MustParse("primary." + provider), Contact: dnsname.MustParse("host." + provider), Serial: 7, Negative: 300}
}

func server(name dnsname.Name, provider string, ns []dnsname.Name, data record.Data) evidence.ServerAnswer {
	return evidence.ServerAnswer{Server: evidence.Server{Name: name, Address: addressOfTest[dnsname.Short(name)]}, Answer: evidence.Positive, SOA: soaOf(provider), NS: ns, NSTTL: 600,
		Sets: []evidence.Observed{{Key: apexA, Answer: evidence.Positive, Data: []record.Data{data}, TTL: 120}}}
}

// sweep is healthy evidence at a moment: two parents that serve parents, old and new servers that both know the zone,
// and a resolver that goes through the given provider.
func sweep(at time.Duration, parents []dnsname.Name, through string) evidence.Sweep {
	s := evidence.Sweep{Domain: domain, Began: start.Add(at), Ended: start.Add(at + time.Second), Zone: dnsname.MustParse("example")}
	for _, p := range []string{"a.nic.example", "b.nic.example"} {
		s.Parents = append(s.Parents, evidence.ParentAnswer{Server: evidence.Server{Name: dnsname.MustParse(p), Address: "127.0.0.1:53"},
			At: start.Add(at + time.Second), Answer: evidence.Referral, NS: parents, TTL: 900})
	}
	for _, n := range oldSet {
		s.Servers = append(s.Servers, server(n, "plover.test", oldSet, "192.0.2.1"))
	}
	for _, n := range newSet {
		s.Servers = append(s.Servers, server(n, "heron.test", newSet, "192.0.2.2"))
	}
	soa := soaOf(through)
	s.Resolvers = []evidence.ResolverAnswer{{Name: "harbour", Address: "127.0.0.9:53", At: s.Ended, SOA: &soa}}
	return s
}

func codes(r Report) (out []string) {
	for _, f := range r.Findings {
		out = append(out, f.Code)
	}
	return out
}

// moved is the history of a domain that was seen at the old set and then, an hour later, at the new one.
func moved() History {
	h := Advance(History{}, sweep(0, oldSet, "plover.test"))
	return Advance(h, sweep(time.Hour, newSet, "plover.test"))
}

func TestBoundOfADelegation(t *testing.T) {
	h := moved()
	require.NotNil(t, h.Former)
	switched := start.Add(time.Hour + time.Second)
	assert.Equal(t, switched, h.Since)
	moments := h.moments("d")
	require.Len(t, moments, 2)
	d := switched.Add(900*time.Second + 600*time.Second)
	assert.Equal(t, d, moments[0].By, "T+P+C where the old servers never tell of the new set")
	assert.Equal(t, d.Add(120*time.Second), moments[1].By, "then R more for data fetched at the last moment")

	told := sweep(time.Hour+100*time.Second, newSet, "plover.test")
	for i := range told.Servers[:2] {
		told.Servers[i].NS = newSet
		told.Servers[i].Sets = told.Servers[2].Sets
	}
	h = Advance(h, told)
	moments = h.moments("d")
	assert.Equal(t, switched.Add(900*time.Second), moments[0].By, "Tc+C is before T+P, and T+P still binds")
	assert.Equal(t, told.Ended.Add(120*time.Second), moments[1].By, "To+R, once the old servers give the new data")
}

func TestBoundOfFirstDelegation(t *testing.T) {
	none := sweep(0, nil, "plover.test")
	for i := range none.Parents {
		none.Parents[i].Answer, none.Parents[i].Negative = evidence.NoName, 450
	}
	h := Advance(Advance(History{}, none), sweep(time.Minute, newSet, "heron.test"))
	moments := h.moments("d")
	require.Len(t, moments, 1)
	assert.Equal(t, start.Add(61*time.Second+450*time.Second), moments[0].By)
}

// A parent that says again that there is no such domain starts the time anew: caches may have asked just that one.
func TestAbsenceThatComesBack(t *testing.T) {
	gone := func(at time.Duration, parents []dnsname.Name, which ...int) evidence.Sweep {
		s := sweep(at, parents, "heron.test")
		for _, i := range which {
			s.Parents[i].Answer, s.Parents[i].Negative, s.Parents[i].NS = evidence.NoName, 450, nil
		}
		return s
	}
	first := Advance(History{}, gone(0, nil, 0, 1))
	for name, h := range map[string]History{"first delegation": first, "moved": Advance(History{}, sweep(0, oldSet, "plover.test"))} {
		t.Run(name, func(t *testing.T) {
			h := Advance(h, sweep(time.Minute, newSet, "heron.test"))
			h = Advance(h, gone(2*time.Minute, newSet, 1))
			assert.Empty(t, h.moments("d"), "nothing is settling while a parent says there is nothing")
			h = Advance(h, sweep(3*time.Minute, newSet, "heron.test"))
			back := start.Add(3*time.Minute + time.Second)
			require.NotEmpty(t, h.moments("d"))
			assert.Equal(t, back.Add(450*time.Second), h.moments("d")[0].By)
			assert.False(t, h.Bound().Before(h.moments("d")[0].By), "the absence counts in D")
		})
	}
}

// A domain that was taken away and came back elsewhere: caches may hold its absence, and what was before that.
func TestBoundAfterAnAbsence(t *testing.T) {
	none := sweep(time.Minute, nil, "plover.test")
	for i := range none.Parents {
		none.Parents[i].Answer, none.Parents[i].Negative = evidence.NoName, 450
	}
	h := Advance(Advance(History{}, sweep(0, oldSet, "plover.test")), none)
	assert.Empty(t, h.moments("d"), "nothing settles while there is no delegation")
	h = Advance(h, sweep(2*time.Minute, newSet, "plover.test"))
	back := start.Add(2*time.Minute + time.Second)
	var bounds []time.Time
	for _, m := range h.moments("d") {
		bounds = append(bounds, m.By)
	}
	assert.Contains(t, bounds, back.Add(450*time.Second))
	assert.Contains(t, bounds, back.Add(1500*time.Second))
}

// A set that changes while a new delegation still settles: caches may hold what the old servers had, and what the new ones had
// before, and the later bound counts for both.
func TestBoundOfAnEditDuringAMove(t *testing.T) {
	edited := func(at time.Duration, held record.Data) evidence.Sweep {
		s := sweep(at, newSet, "heron.test")
		for i := range s.Servers[2:] {
			s.Servers[2+i].Sets = []evidence.Observed{{Key: apexA, Answer: evidence.Positive, Data: []record.Data{"192.0.2.3"}, TTL: 120}}
		}
		s.Resolvers[0].Sets = []evidence.Observed{{Key: apexA, Answer: evidence.Positive, Data: []record.Data{held}, TTL: 20}}
		return s
	}
	d := start.Add(time.Hour + time.Second + 1500*time.Second)
	for _, c := range []struct {
		name string
		at   time.Duration
		by   time.Time
	}{
		{"early in the move, D counts", time.Hour + time.Minute, d.Add(120 * time.Second)},
		{"after the move, the edit counts", time.Hour + 1550*time.Second, start.Add(time.Hour + 1551*time.Second).Add(120 * time.Second)},
	} {
		t.Run(c.name, func(t *testing.T) {
			for _, held := range []record.Data{"192.0.2.1", "192.0.2.2"} {
				s := edited(c.at, held)
				h := Advance(moved(), s)
				r := Judge(Plan{Domain: domain}, h, s)
				var bounds []time.Time
				for _, m := range r.Moments {
					if m.What == "content" {
						bounds = append(bounds, m.By)
					}
				}
				assert.Equal(t, []time.Time{c.by}, bounds)
				assert.Equal(t, "old", r.Resolvers[0].Sets[0].Sees, "%s", held)
				assert.Equal(t, &c.by, r.Resolvers[0].Sets[0].Until)
			}
		})
	}
}

// Old servers that were switched off before anybody asked them may have told caches anything.
func TestBoundWhereTheOldServersWereNotHeard(t *testing.T) {
	dead := sweep(0, oldSet, "plover.test")
	for i := range dead.Servers[:2] {
		dead.Servers[i] = evidence.ServerAnswer{Server: dead.Servers[i].Server, Answer: evidence.Silent, Problem: "time-out"}
	}
	h := Advance(Advance(History{}, dead), sweep(time.Hour, newSet, "heron.test"))
	m := h.moments("d")[0]
	assert.Equal(t, start.Add(time.Hour+time.Second+(900+172800)*time.Second), m.By)
	assert.Contains(t, m.Why, "assumed")
}

func TestBoundOfAnEdit(t *testing.T) {
	h := Advance(History{}, sweep(0, newSet, "heron.test"))
	half := sweep(time.Minute, newSet, "heron.test")
	half.Servers[2].Sets = []evidence.Observed{{Key: apexA, Answer: evidence.Positive, Data: []record.Data{"192.0.2.99"}, TTL: 60}}
	h = Advance(h, half)
	assert.Empty(t, h.Edits, "one of two servers is not all of them")
	whole := half
	whole.Ended = start.Add(2 * time.Minute)
	whole.Servers[3].Sets = half.Servers[2].Sets
	h = Advance(h, whole)
	moments := h.moments("d")
	require.Len(t, moments, 1)
	assert.Equal(t, whole.Ended.Add(120*time.Second), moments[0].By, "the TTL that the old answer had counts")
}

func TestRegressionResetsT(t *testing.T) {
	h := moved()
	back := sweep(2*time.Hour, newSet, "plover.test")
	back.Parents[1].NS = oldSet
	h = Advance(h, back)
	assert.True(t, h.Since.IsZero())
	h = Advance(h, sweep(3*time.Hour, newSet, "plover.test"))
	assert.Equal(t, start.Add(3*time.Hour+time.Second), h.Since)
}

func TestParentThatIsSilentDoesNotSetT(t *testing.T) {
	h := Advance(History{}, sweep(0, oldSet, "plover.test"))
	s := sweep(time.Hour, newSet, "plover.test")
	s.Parents[1] = evidence.ParentAnswer{Server: s.Parents[1].Server, Answer: evidence.Silent, Problem: "time-out"}
	assert.Nil(t, Advance(h, s).Former, "an incomplete sweep establishes nothing")
}

// Each row is one way in which a domain can stand, with the verdict and the findings it must give.
func TestJudge(t *testing.T) {
	saved := &Registration{Account: "gannet", Active: oldSet, Saved: newSet}
	active := &Registration{Account: "gannet", Active: newSet, Saved: newSet}
	for _, c := range []struct {
		name    string
		plan    Plan
		history History
		sweep   func() evidence.Sweep
		verdict Verdict
		codes   []string
	}{
		{"stands where it stood", Plan{}, History{}, func() evidence.Sweep { return sweep(0, newSet, "heron.test") }, Settled, nil},
		{"as wanted", Plan{Wanted: newSet}, History{}, func() evidence.Sweep { return sweep(0, newSet, "heron.test") }, Settled, nil},
		{"not moved yet", Plan{Wanted: newSet}, History{}, func() evidence.Sweep { return sweep(0, oldSet, "plover.test") },
			ReadyToMove, []string{"not-moved-yet"}},
		{"a change has begun", Plan{Wanted: newSet, Begun: true}, History{}, func() evidence.Sweep { return sweep(0, oldSet, "plover.test") },
			NeedsAction, []string{"parent-serves-other-set"}},
		{"not moved yet, and what it has is broken", Plan{Wanted: newSet}, History{}, func() evidence.Sweep {
			s := sweep(0, oldSet, "plover.test")
			for i := range s.Servers {
				if s.Servers[i].Name == s.Servers[0].Name {
					s.Servers[i].Answer, s.Servers[i].Problem = evidence.Lame, "REFUSED"
				}
			}
			return s
		}, NeedsAction, []string{"nameserver-lame", "not-moved-yet"}},
		{"saved, not active", Plan{Wanted: newSet, Registrar: saved}, History{}, func() evidence.Sweep { return sweep(0, oldSet, "plover.test") },
			NeedsAction, []string{"saved-not-active"}},
		{"registry behind", Plan{Wanted: newSet, Registrar: active}, History{}, func() evidence.Sweep { return sweep(0, oldSet, "plover.test") },
			Settling, []string{"registry-not-updated"}},
		{"one parent ahead", Plan{Wanted: newSet, Registrar: active}, History{}, func() evidence.Sweep {
			s := sweep(0, oldSet, "plover.test")
			s.Parents[0].NS = newSet
			return s
		}, Settling, []string{"parents-disagree"}},
		{"resolver still old", Plan{Wanted: newSet}, moved(), func() evidence.Sweep { return sweep(time.Hour+time.Minute, newSet, "plover.test") },
			Settling, []string{"old-zone-names-old-set", "resolver-still-old"}},
		{"resolver already new, others may not be", Plan{Wanted: newSet}, moved(), func() evidence.Sweep { return sweep(time.Hour+time.Minute, newSet, "heron.test") },
			Settling, []string{"old-zone-names-old-set"}},
		{"past the bound", Plan{Wanted: newSet}, moved(), func() evidence.Sweep { return sweep(2*time.Hour, newSet, "heron.test") }, Settled, nil},
		{"past the bound and still old", Plan{Wanted: newSet}, moved(), func() evidence.Sweep { return sweep(2*time.Hour, newSet, "plover.test") },
			NeedsAction, []string{"resolver-overstays"}},
		{"old servers switched off too early", Plan{Wanted: newSet}, moved(), func() evidence.Sweep {
			s := sweep(time.Hour+time.Minute, newSet, "heron.test")
			s.Servers[0] = evidence.ServerAnswer{Server: s.Servers[0].Server, Answer: evidence.Lame, Problem: "REFUSED"}
			return s
		}, Settling, []string{"old-servers-stopped"}},
		{"goes elsewhere, nobody knows since when", Plan{}, History{}, func() evidence.Sweep { return sweep(0, newSet, "plover.test") },
			Settling, []string{"resolver-elsewhere"}},
		{"one of two entered", Plan{Wanted: newSet}, History{}, func() evidence.Sweep {
			s := sweep(0, newSet[:1], "heron.test")
			for i := range s.Servers {
				s.Servers[i].NS = newSet[:1]
			}
			return s
		}, Settled, []string{"nameserver-single", "parent-set-incomplete"}},
		{"one character off", Plan{Wanted: newSet}, History{}, func() evidence.Sweep {
			s := sweep(0, set("quay-11.heron.test", "quay-15.heron.test"), "heron.test")
			s.NoAddress = []evidence.NameProblem{{Name: dnsname.MustParse("quay-15.heron.test"), Kind: evidence.NameMissing, Problem: "NXDOMAIN"}}
			return s
		}, NeedsAction, []string{"nameserver-missing", "nameserver-misspelt", "child-set-differs", "nameservers-one-address", "no-ipv6"}},
		{"old one left in", Plan{Wanted: newSet}, History{}, func() evidence.Sweep {
			return sweep(0, dnsname.SortSet(append(set("oak-1.plover.test"), newSet...)), "heron.test")
		}, NeedsAction, []string{"parent-set-mixed", "answers-differ", "child-set-differs", "child-set-differs", "child-set-differs", "soa-differs"}},
		{"lame", Plan{}, History{}, func() evidence.Sweep {
			s := sweep(0, newSet, "heron.test")
			s.Servers[2] = evidence.ServerAnswer{Server: s.Servers[2].Server, Answer: evidence.Lame, Problem: "REFUSED"}
			return s
		}, NeedsAction, []string{"nameserver-lame"}},
		{"silent", Plan{}, History{}, func() evidence.Sweep {
			s := sweep(0, newSet, "heron.test")
			s.Servers[2] = evidence.ServerAnswer{Server: s.Servers[2].Server, Answer: evidence.Silent, Problem: "time-out"}
			return s
		}, NeedsAction, []string{"nameserver-silent"}},
		{"no TCP, serial behind", Plan{}, History{}, func() evidence.Sweep {
			s := sweep(0, newSet, "heron.test")
			s.Servers[2].NoTCP = "connection refused"
			s.Servers[3].SOA.Serial = 8
			return s
		}, Settled, []string{"no-tcp", "serials-differ"}},
		{"not registered", Plan{Wanted: newSet}, History{}, func() evidence.Sweep {
			s := sweep(0, nil, "heron.test")
			s.Parents[0].Answer, s.Parents[1].Answer = evidence.NoName, evidence.NoName
			return s
		}, Undelegated, []string{"not-registered"}},
		{"walk failed", Plan{Wanted: newSet}, moved(), func() evidence.Sweep { return evidence.Sweep{Failure: "no root server answers"} },
			Unknown, []string{"check-failed"}},
		{"no parent answers", Plan{Wanted: newSet}, moved(), func() evidence.Sweep {
			s := sweep(time.Hour, newSet, "heron.test")
			s.Parents[0].Answer, s.Parents[1].Answer = evidence.Silent, evidence.Silent
			return s
		}, Unknown, []string{"check-failed"}},
		{"a zone above has no nameserver that exists", Plan{Wanted: newSet}, moved(), func() evidence.Sweep {
			return evidence.Sweep{Failure: "no address of the nameservers of test is known", Broken: dnsname.MustParse("test")}
		}, NeedsAction, []string{"zone-above-broken"}},
		{"every parent refuses", Plan{Wanted: newSet}, moved(), func() evidence.Sweep {
			s := sweep(time.Hour, newSet, "heron.test")
			s.Parents[0], s.Parents[1] = evidence.ParentAnswer{Answer: evidence.Lame, Problem: "REFUSED"}, evidence.ParentAnswer{Answer: evidence.Lame, Problem: "REFUSED"}
			return s
		}, NeedsAction, []string{"zone-above-broken"}},
		{"one parent refuses, the other refers", Plan{Wanted: newSet}, History{}, func() evidence.Sweep {
			s := sweep(time.Hour, newSet, "heron.test")
			s.Parents[0] = evidence.ParentAnswer{Answer: evidence.Lame, Problem: "REFUSED"}
			return s
		}, Settled, []string{"parent-lame"}},
		{"one parent refuses, the other knows no such name", Plan{}, History{}, func() evidence.Sweep {
			s := sweep(time.Hour, nil, "heron.test")
			s.Parents[0], s.Parents[1] = evidence.ParentAnswer{Answer: evidence.Lame, Problem: "REFUSED"}, evidence.ParentAnswer{Answer: evidence.NoName}
			return s
		}, Undelegated, []string{"not-registered", "parent-lame"}},
		{"one parent refuses, the other is silent", Plan{Wanted: newSet}, moved(), func() evidence.Sweep {
			s := sweep(time.Hour, newSet, "heron.test")
			s.Parents[0], s.Parents[1] = evidence.ParentAnswer{Answer: evidence.Lame, Problem: "REFUSED"}, evidence.ParentAnswer{Answer: evidence.Silent}
			return s
		}, Unknown, []string{"check-failed"}},
		{"one parent silent, nothing known before", Plan{Wanted: newSet}, History{}, func() evidence.Sweep {
			s := sweep(0, newSet, "heron.test")
			s.Parents[1].Answer = evidence.Silent
			return s
		}, Unknown, []string{"parent-silent"}},
		{"registrar does not answer", Plan{Wanted: newSet, Registrar: &Registration{Account: "gannet", Problem: "time-out"}}, History{},
			func() evidence.Sweep { return sweep(0, newSet, "heron.test") }, Settled, []string{"registrar-not-asked"}},
		{"resolver does not answer", Plan{}, History{}, func() evidence.Sweep {
			s := sweep(0, newSet, "heron.test")
			s.Resolvers[0] = evidence.ResolverAnswer{Name: "harbour", Problem: "time-out"}
			return s
		}, Settled, []string{"resolver-silent"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.plan.Domain = domain
			s := c.sweep()
			h := Advance(c.history, s)
			r := Judge(c.plan, h, s)
			assert.Equal(t, c.verdict, r.Verdict)
			assert.Equal(t, c.codes, codes(r))
			for _, f := range r.Findings {
				assert.NotEmpty(t, f.Remedy, f.Code)
			}
			if r.Verdict == NeedsAction {
				assert.Equal(t, finding.Error, finding.Worst(r.Findings))
			}
		})
	}
}

// Caches of every obedient kind, with fetches at random moments, against the bound: none is ever late.
func TestBoundIsNeverEarly(t *testing.T) {
	for seed := range uint64(2000) {
		rng := rand.New(rand.NewPCG(seed, 1))
		p, c, r := rng.IntN(900)+1, rng.IntN(900)+1, rng.IntN(300)+1
		h := History{Since: start, Current: State{Set: newSet, Known: true}, Former: &Former{State: State{Set: oldSet,
			P: TTLs{{TTL: uint32(p), At: start}}, C: TTLs{{TTL: uint32(c), At: start}}, Sets: []Kept{{Observed: evidence.Observed{Key: apexA, Answer: evidence.Positive, Data: []record.Data{"192.0.2.1"}, TTL: uint32(r)}}}}}}
		told := rng.IntN(2) == 0
		tc := rng.IntN(2 * p)
		if told {
			h.Former.Told = start.Add(time.Duration(tc) * time.Second)
		}
		moments := h.moments("d")
		require.Len(t, moments, 2)

		fetchedParent := -rng.IntN(p) // just before T or long before it, in seconds from T
		letGo := fetchedParent + p
		if rng.IntN(2) == 0 { // one that asks the old servers for their own set, as late as it still goes to them
			last := letGo - 1
			if told {
				last = min(last, tc-1)
			}
			letGo = max(letGo, last+c)
		}
		contentUntil := letGo - 1 + r
		assert.False(t, moments[0].By.Before(start.Add(time.Duration(letGo)*time.Second)), "seed %d", seed)
		assert.False(t, moments[1].By.Before(start.Add(time.Duration(contentUntil)*time.Second)), "seed %d", seed)
	}
}
