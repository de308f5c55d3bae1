package compare

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/record"
)

var pairZone = dnsname.MustParse("a.example")

// style is how a nameserver answers where the standards leave it a choice.
type style struct {
	compact bool // a name that does not exist is answered as one without data (RFC 9824)
	rotates bool // of several records only some come with an answer
}

// authority answers for a zone as RFC 1034 section 4.3.2 and RFC 4592 say. It shares nothing with what is tested.
type authority struct {
	sets  map[string]map[record.Type][]record.Data // by name as text
	style style
	asked int
}

func authorityOf(sets []record.Set, s style) *authority {
	a := &authority{sets: map[string]map[record.Type][]record.Data{}, style: s}
	for _, set := range sets {
		name := set.Name.String()
		if a.sets[name] == nil {
			a.sets[name] = map[record.Type][]record.Data{}
		}
		a.sets[name][set.Type] = set.Data
	}
	return a
}

func (a *authority) exists(name string) bool {
	for have := range a.sets {
		if have == name || strings.HasSuffix(have, "."+name) {
			return true
		}
	}
	return false
}

func (a *authority) answer(q record.Key) evidence.Observed {
	a.asked++
	o := evidence.Observed{Key: q, TTL: 60}
	name := q.Name.String()
	for at := name; at != pairZone.String(); _, at, _ = strings.Cut(at, ".") { // the highest cut at or above it
		if ns := a.sets[at][record.NS]; len(ns) > 0 && !(at == name && q.Type == record.DS) {
			o.Answer, o.Data = evidence.Referral, slices.Clone(ns)
		}
	}
	if o.Answer == evidence.Referral {
		return o
	}
	sets, there := a.sets[name]
	if !there && !a.exists(name) { // the wildcard at the closest name that exists
		encloser := name
		for !a.exists(encloser) {
			_, encloser, _ = strings.Cut(encloser, ".")
		}
		if sets, there = a.sets["*."+encloser]; !there {
			if o.Answer = evidence.NoName; a.style.compact {
				o.Answer = evidence.NoData
			}
			return o
		}
	}
	data := slices.Clone(sets[q.Type])
	if len(data) == 0 {
		data = slices.Clone(sets[record.CNAME])
	}
	if len(data) == 0 {
		o.Answer = evidence.NoData
		return o
	}
	if a.style.rotates && len(data) > 1 {
		at := a.asked % len(data)
		data = []record.Data{data[at], data[(at+1)%len(data)]}
		slices.Sort(data)
		data = slices.Compact(data)
	}
	o.Answer, o.Data = evidence.Positive, data
	return o
}

// drawn returns a zone by chance: names of several levels, wildcards, empty names between, delegations, aliases and large sets.
func drawn(rng *rand.Rand) (sets []record.Set) {
	owners := map[dnsname.Name]bool{}
	add := func(label string, t record.Type, data ...record.Data) {
		name, err := dnsname.ParseRelative(label, pairZone)
		if err == nil {
			owners[name] = true
			sets = append(sets, record.NewSet(name, t, 60, data...))
		}
	}
	add("@", record.SOA, "ns1. admin. 1 2 3 4 5")
	add("@", record.NS, record.Data(fmt.Sprintf("ns%d.provider.test.", rng.IntN(9))))
	add("@", record.MX, "10 mail.post.example.")
	add("@", record.A, "192.0.2.1", "192.0.2.2", "192.0.2.3")
	for i := range 4 + rng.IntN(6) {
		label := fmt.Sprintf("n%d", i)
		for range rng.IntN(3) {
			label += fmt.Sprintf(".l%d", rng.IntN(3))
		}
		switch rng.IntN(6) {
		case 0:
			add("*."+label, record.A, record.Data(fmt.Sprintf("192.0.2.%d", 20+i)))
		case 1:
			add("cut"+label, record.NS, record.Data(fmt.Sprintf("ns%d.elsewhere.test.", i)), "ns.other.test.")
		case 2:
			add(label, record.CNAME, "web.host.example.")
		case 3:
			add(label, record.TXT, record.Data(fmt.Sprintf("%q", label)))
		default:
			add(label, record.A, record.Data(fmt.Sprintf("192.0.2.%d", 40+i)), record.Data(fmt.Sprintf("192.0.2.%d", 80+i)))
		}
	}
	slices.SortFunc(sets, func(a, b record.Set) int { return a.Key().Compare(b.Key()) })
	return slices.CompactFunc(sets, func(a, b record.Set) bool { return a.Key() == b.Key() })
}

// differences asks both sides as a handover does: two servers each, and three times what differs.
func differences(t *testing.T, known []record.Set, before, after *authority) []Difference {
	questions := Questions(pairZone, "beacon-made-up", record.ContentsOf(known...))
	require.NotEmpty(t, questions)
	was, is := Answers{}, Answers{}
	var list []Difference
	open := questions
	for range 3 {
		for _, q := range open {
			for range 2 {
				was[q.Key] = append(was[q.Key], before.answer(q.Key))
				is[q.Key] = append(is[q.Key], after.answer(q.Key))
			}
		}
		list = Compare(questions, was, is)
		open = slices.DeleteFunc(slices.Clone(open), func(q Question) bool {
			return !slices.ContainsFunc(list, func(d Difference) bool { return d.Key == q.Shown && d.Kind == Changed })
		})
	}
	return list
}

// Two sides with the same records answer the same, in whatever way each of them answers; and every difference that is planted is found.
func TestPairs(t *testing.T) {
	styles := []style{{}, {compact: true}, {rotates: true}, {compact: true, rotates: true}}
	for seed := range uint64(200) {
		rng := rand.New(rand.NewPCG(seed, 3))
		sets := drawn(rng)
		own := func(sets []record.Set) []record.Set { // each provider has an SOA and apex NS set of its own
			return append(slices.DeleteFunc(slices.Clone(sets), func(s record.Set) bool {
				return s.Name == pairZone && (s.Type == record.SOA || s.Type == record.NS)
			}), record.NewSet(pairZone, record.NS, 60, record.Data(fmt.Sprintf("other%d.test.", seed))))
		}
		list := differences(t, sets, authorityOf(sets, styles[seed%4]), authorityOf(own(sets), styles[seed/4%4]))
		assert.Empty(t, list, "seed %d", seed)
	}
	found := map[string]int{}
	for seed, planted := uint64(1000), 0; planted < 40; seed++ {
		rng := rand.New(rand.NewPCG(seed, 4))
		sets := drawn(rng)
		changed, what := plant(rng, sets)
		if what == "" {
			continue
		}
		planted++
		list := differences(t, sets, authorityOf(sets, styles[seed%4]), authorityOf(changed, styles[seed/4%4]))
		if assert.NotEmpty(t, Open(list), "seed %d: %s", seed, what) {
			found[what]++
		}
	}
	t.Logf("40 planted differences, found: %v", found)
	assert.GreaterOrEqual(t, len(found), 6, "of all kinds")
}

// plant changes a zone in one place that visitors notice.
func plant(rng *rand.Rand, sets []record.Set) (changed []record.Set, what string) {
	changed = slices.Clone(sets)
	at := rng.IntN(len(sets))
	s := sets[at]
	if s.Name == pairZone && (s.Type == record.SOA || s.Type == record.NS) {
		return nil, ""
	}
	switch rng.IntN(5) {
	case 0:
		return slices.Delete(changed, at, at+1), "a set is missing: " + map[bool]string{true: "wildcard", false: s.Type.String()}[s.Name.IsWildcard()]
	case 1:
		changed[at] = record.NewSet(s.Name, s.Type, s.TTL, append(slices.Clone(s.Data[:len(s.Data)-1]), replaced(s.Data[len(s.Data)-1]))...)
		return changed, "other data: " + s.Type.String()
	case 2:
		if len(s.Data) < 2 {
			return nil, ""
		}
		changed[at] = record.NewSet(s.Name, s.Type, s.TTL, s.Data[1:]...)
		return changed, "a record of several is missing"
	case 3:
		return append(changed, record.NewSet(dnsname.MustParse("*.a.example"), record.A, 60, "192.0.2.250")), "a wildcard too many"
	}
	return append(changed, record.NewSet(pairZone, nobodysType, 60, `\# 1 00`)), "answers what nobody has"
}

// replaced is data of the same form that is another.
func replaced(d record.Data) record.Data {
	text := string(d)
	if i := strings.LastIndexAny(text, "0123456789"); i >= 0 {
		digit := map[bool]string{true: "8", false: "9"}[text[i] == '9']
		return record.Data(text[:i] + digit + text[i+1:])
	}
	return record.Data("x" + text)
}
