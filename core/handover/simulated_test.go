package handover

import (
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/handover/compare"
	"beacon/core/record"
)

// The simulation shares no formula with the product: it knows what servers serve at each moment, and from that what any cache that obeys TTLs may hold.
// Times are seconds since its beginning.

const never = int64(1) << 60

var (
	simDomain = dnsname.MustParse("a.example")
	simOld    = []dnsname.Name{dnsname.MustParse("ns1.old.test"), dnsname.MustParse("ns2.old.test")}
	simNew    = []dnsname.Name{dnsname.MustParse("ns1.new.test"), dnsname.MustParse("ns2.new.test")}
	simStart  = time.Date(2030, 1, 1, 0, 0, 0, 0, time.UTC)
)

func at(t int64) time.Time { return simStart.Add(time.Duration(t) * time.Second) }

// simulated is a domain with everything around it.
type simulated struct {
	p, c, k, dsTTL, r, n int64
	a                    int64 // the parent's negative TTL
	first                bool  // the parents do not delegate the domain before
	signedOld, sign      bool  // the old zone is signed, with a DS; the new one is, and gets a DS at the end
	oldHere, tells       bool  // the old zone is at an account, and its apex NS set can be written
	parents              []simParent
	ready                [2]int64 // since when each new server answers with the records
	signed               [2]int64 // and with signatures
	poll, loss           int64    // between two checks; of a hundred answers how many are lost
	delegated, dsOut     int64    // when the registrar did it; never before
	told, retired, dsIn  int64
	synced, ended        int64 // ended: when the handover was called done
	scans                int64 // every so often the parent scans the zone that it delegates to for CDS records; 0 for never
	cdsOld, cdsNew       int64 // until when each side asks it for a DS
	lower, low           bool  // TTLs are lowered beforehand; they are low at the placements
	lowered              int64 // since when the old zone's NS set has the low one
}

// simParent is a server of the parent zone: it follows the registrar late, and may fall back for a while.
type simParent struct {
	lag, fallsBack, until int64
	behind                int64 // a second machine at its address, which checks do not come to, follows so much later
}

func newSimulated(rng *rand.Rand) *simulated {
	pick := func(list ...int64) int64 { return list[rng.IntN(len(list))] }
	s := &simulated{p: pick(300, 3600, 86400, 172800), c: pick(60, 300, 3600, 86400), k: pick(60, 3600, 86400, 259200), dsTTL: pick(300, 3600, 86400), r: pick(60, 300, 3600, 86400), n: pick(60, 900, 3600),
		signedOld: rng.IntN(2) == 0, sign: rng.IntN(2) == 0, oldHere: rng.IntN(4) != 0, loss: pick(0, 1, 4, 12),
		a: pick(60, 900, 10800, 86400), delegated: never, dsOut: never, told: never, retired: never, dsIn: never, synced: never, ended: never}
	held := s.p
	if s.first = rng.IntN(5) == 0; s.first {
		s.signedOld, s.oldHere, held = false, false, s.a
	}
	s.tells = s.oldHere && rng.IntN(3) != 0
	s.lower, s.lowered = rng.IntN(3) == 0, never
	s.poll = max(60, max(held, s.c, s.k, s.dsTTL, s.r)/pick(20, 40))
	for range 1 + rng.IntN(3) {
		s.parents = append(s.parents, simParent{lag: rng.Int64N(3 * s.poll), behind: rng.Int64N(simMargin)})
	}
	if rng.IntN(3) == 0 && held > 8*s.poll { // it serves the old set again, while caches hold that anyway, and for long enough that a check sees it
		p := &s.parents[rng.IntN(len(s.parents))]
		p.fallsBack = p.lag + s.poll + rng.Int64N(held/2)
		p.until = p.fallsBack + 3*s.poll + rng.Int64N(held)
	}
	if rng.IntN(4) == 0 {
		s.scans = pick(3600, 86400)
		if s.signedOld && rng.IntN(2) == 0 {
			s.cdsOld = never
		}
		if s.sign && !s.first && rng.IntN(2) == 0 {
			s.cdsNew = never
		}
	}
	for i := range s.ready {
		s.ready[i] = rng.Int64N(4 * s.poll)
		if rng.IntN(3) == 0 {
			s.ready[i] = 0
		}
		s.signed[i] = s.ready[i] + rng.Int64N(30*s.poll)
	}
	return s
}

// serves reports whether a parent server, or the machine behind it, serves the new set.
func (s *simulated) serves(i int, t int64, behind bool) bool {
	p := s.parents[i]
	since := t - s.delegated
	if behind {
		since -= p.behind
	}
	return s.delegated != never && since >= p.lag && !(p.until > 0 && since >= p.fallsBack && since < p.until)
}

// dsAt is which DS a parent server serves: 1 that of the old zone, 2 that of the new one, 0 none.
func (s *simulated) dsAt(i int, t int64, behind bool) int {
	lag := s.parents[i].lag
	if behind {
		lag += s.parents[i].behind
	}
	switch {
	case s.dsIn != never && t >= s.dsIn+lag, t >= s.scanned(s.delegated, lag, s.cdsNew):
		return 2
	case s.signedOld && t >= s.scanned(s.dsOut, lag, min(s.cdsOld, s.delegated)):
		return 1
	case s.signedOld && (s.dsOut == never || t < s.dsOut+lag):
		return 1
	}
	return 0
}

// scanned is when a parent server first serves what its scan found, after it did something at a moment; until is how long it is to be found.
func (s *simulated) scanned(after, lag, until int64) int64 {
	if s.scans == 0 || after == never {
		return never
	}
	if next := ((after+lag)/s.scans + 1) * s.scans; next < until {
		return next
	}
	return never
}

// cAt is the TTL of the old zone's NS set at a moment.
func (s *simulated) cAt(t int64) int64 {
	if t >= s.lowered {
		return min(s.c, LowNS)
	}
	return s.c
}

// events are the moments at which something changes.
func (s *simulated) events(end int64) []int64 {
	list := []int64{0, end, s.lowered, s.told, s.retired, s.synced, s.ended, s.delegated, s.dsIn}
	list = append(append(list, s.ready[:]...), s.signed[:]...)
	for _, p := range s.parents {
		for _, behind := range []int64{0, p.behind} {
			list = append(list, s.scanned(s.delegated, p.lag+behind, s.cdsNew), s.scanned(s.dsOut, p.lag+behind, min(s.cdsOld, s.delegated)))
		}
		for _, base := range []int64{s.delegated, s.dsOut, s.dsIn} {
			if base != never {
				for _, behind := range []int64{0, p.behind} {
					list = append(list, base+p.lag+behind, base+p.fallsBack+behind, base+p.until+behind)
				}
			}
		}
	}
	list = slices.DeleteFunc(list, func(t int64) bool { return t < 0 || t > end })
	slices.Sort(list)
	return slices.Compact(list)
}

// judge looks at each moment what any cache may hold, and returns what is wrong, and how long after the earliest right moment each gate opened.
func (s *simulated) judge(end int64) (wrong []string, slack map[string]int64) {
	var heldP, heldC, heldAbsent, heldDS, heldKeys, heldUnsigned int64 // until when it may be held; what is served at a moment may be held at that moment
	slack = map[string]int64{}
	say := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	all := s.events(end)
	for n := 0; n+1 < len(all); n++ {
		a, b := all[n], all[n+1]
		oldServed, newServed, oldDS, newDS := false, false, false, false
		for i := range s.parents {
			for _, behind := range []bool{false, true} {
				oldServed, newServed = oldServed || !s.serves(i, a, behind), newServed || s.serves(i, a, behind)
				oldDS, newDS = oldDS || s.dsAt(i, a, behind) == 1, newDS || s.dsAt(i, a, behind) == 2
			}
		}
		if held := max(heldP, heldC, heldAbsent); a == s.ended && held > a {
			say("it was called done at %d, and caches hold what was before until %d", a, held)
		}
		switch {
		case oldServed && s.first:
			heldAbsent = max(heldAbsent, b+s.a)
		case oldServed:
			heldP = max(heldP, b+s.p)
		}
		alive, tells := a < s.retired, a >= s.told
		if until := min(b, heldP); alive && !tells && until > a { // who holds the delegation asks there, and gets the old set once more
			heldC = max(heldC, until+s.cAt(a))
		}
		asksOld := max(heldP, heldC)
		if !alive && asksOld > a {
			say("the old zone went at %d, and caches ask it until %d", a, asksOld)
		}
		if a == s.retired {
			slack["the old zone goes"] = a - asksOld
			if s.told < a { // what kept refreshing there until then
				slack["the old zone goes"] = a - max(asksOld, s.told+s.cAt(s.told))
			}
		}
		if a == s.delegated && s.signedOld {
			slack["delegated, after a DS"] = a - max(heldDS, heldKeys, s.ready[0], s.ready[1], s.synced)
		}
		if a == s.dsIn && (s.first || !s.oldHere) { // else what keeps refreshing is waited for, which is judged in the ways there and back
			slack["the new DS"] = a - max(heldUnsigned, s.signed[0], s.signed[1])
		}
		if oldDS {
			heldDS = max(heldDS, b+s.dsTTL)
		}
		if s.signedOld && alive {
			if until := min(b, heldDS, max(asksOld, a)); until > a {
				heldKeys = max(heldKeys, until+s.k)
			}
		}
		if newServed {
			for j := range s.ready {
				if a < s.ready[j] || a < s.synced {
					say("new server %d is asked at %d, and is not ready", j, a)
				}
			}
			if s.signedOld && max(heldDS, heldKeys) > a {
				say("new servers are asked at %d, and validators hold the DS until %d, old keys until %d", a, heldDS, heldKeys)
			}
		}
		if until := min(b, asksOld); alive && until > a {
			heldUnsigned = max(heldUnsigned, until+max(s.r, s.n, s.k))
		}
		for j := range s.signed {
			if a < s.signed[j] && newServed {
				heldUnsigned = max(heldUnsigned, min(b, s.signed[j])+max(s.r, s.n, s.k))
			}
		}
		if newDS && heldUnsigned > a {
			say("the new DS is served at %d, and unsigned answers are held until %d", a, heldUnsigned)
		}
		if newDS && (a < s.signed[0] || a < s.signed[1]) {
			say("the new DS is served at %d, before the zone is signed", a)
		}
	}
	return wrong, slack
}

var (
	simOldDS, _ = dns.NewRR("a.example. 60 DS 11111 13 2 " + "11" + "22334455667788990011223344556677889900112233445566778899001122")
	simNewDS, _ = dns.NewRR("a.example. 60 DS 22222 13 2 " + "aa" + "22334455667788990011223344556677889900112233445566778899001122")
	simCDS, _   = dns.NewRR("a.example. 60 CDS 22222 13 2 " + "aa" + "22334455667788990011223344556677889900112233445566778899001122")
	simOldKey   = simKey("old-key-old-key-old-key-old-key-old-key-old-key-old-key-old-key-")
	simNewKey   = simKey("new-key-new-key-new-key-new-key-new-key-new-key-new-key-new-key-")
)

func simKey(octets string) *dns.DNSKEY {
	return &dns.DNSKEY{Hdr: dns.RR_Header{Name: "a.example.", Rrtype: dns.TypeDNSKEY, Class: dns.ClassINET}, Flags: 257, Protocol: 3, Algorithm: 13, PublicKey: octets}
}

// sweep is what a check at a moment hears.
func (s *simulated) sweep(t int64, rng *rand.Rand) evidence.Sweep {
	lost := func() bool { return rng.Int64N(100) < s.loss }
	w := evidence.Sweep{Domain: simDomain, Began: at(t), Ended: at(t + 1), Zone: dnsname.MustParse("example")}
	for i := range s.parents {
		p := evidence.ParentAnswer{Server: evidence.Server{Name: dnsname.MustParse("nic.test"), Address: fmt.Sprintf("127.0.0.%d:53", i+1)}, At: at(t), Answer: evidence.Referral, NS: simOld,
			TTL: uint32(s.p), AskedDS: true}
		switch {
		case s.serves(i, t, false):
			p.NS = simNew
		case s.first:
			p.Answer, p.NS, p.Negative = evidence.NoName, nil, uint32(s.a)
		}
		if ds := s.dsAt(i, t, false); lost() {
			p.AskedDS = false // the delegation was heard, and not what it says of the DS
		} else if ds != 0 {
			rr := dns.Copy(map[int]dns.RR{1: simOldDS, 2: simNewDS}[ds])
			rr.Header().Ttl = uint32(s.dsTTL)
			p.DS = dnssec.Records{rr}
		}
		if lost() {
			p = evidence.ParentAnswer{Server: p.Server, At: p.At, Answer: evidence.Silent}
		}
		w.Parents = append(w.Parents, p)
	}
	answer := func(name dnsname.Name, address string, ns []dnsname.Name, keys *dns.DNSKEY) evidence.ServerAnswer {
		a := evidence.ServerAnswer{Server: evidence.Server{Name: name, Address: address}, At: at(t), Answer: evidence.Positive, NS: ns, NSTTL: uint32(s.cAt(t)), SOA: evidence.SOA{Serial: 1, Negative: uint32(s.n)}}
		if keys != nil {
			key := dns.Copy(keys)
			key.Header().Ttl = uint32(s.k)
			a.Keys = dnssec.Records{key}
		}
		return a
	}
	silent := func(a evidence.ServerAnswer) evidence.ServerAnswer {
		return evidence.ServerAnswer{Server: a.Server, At: a.At, Answer: evidence.Silent}
	}
	for j := range simOld {
		if s.first {
			break
		}
		ns, keys := simOld, (*dns.DNSKEY)(nil)
		if t >= s.told {
			ns = simNew
		}
		if s.signedOld {
			keys = simOldKey
		}
		a := answer(simOld[j], fmt.Sprintf("127.0.1.%d:53", j+1), ns, keys)
		if t < s.cdsOld {
			a.Requests = dnssec.Records{simCDS}
		}
		if t >= s.retired || lost() {
			a = silent(a)
		}
		w.Servers = append(w.Servers, a)
	}
	for j := range simNew {
		keys := (*dns.DNSKEY)(nil)
		if s.sign && t >= s.signed[j] {
			keys = simNewKey
		}
		a := answer(simNew[j], fmt.Sprintf("127.0.2.%d:53", j+1), simNew, keys)
		if t < s.cdsNew {
			a.Requests = dnssec.Records{simCDS}
		}
		if t < s.ready[j] || lost() {
			a = silent(a)
		}
		w.Servers = append(w.Servers, a)
	}
	return w
}

// outcome is how a simulated handover went.
type outcome struct {
	wrong []string
	seen  []string // what sampled resolvers saw go wrong
	done  bool
	slack map[string]int64 // by gate: between the earliest right moment and that at which it opened
	poll  int64
	end   int64
	path  []string

	forecast []Station    // as the first check allows it
	acted    map[Do]int64 // when each was first done
}

const simMargin = 600

// handOver lets Decide move a domain, check by check.
func handOver(seed uint64, l limits) (o outcome, s *simulated) {
	rng := rand.New(rand.NewPCG(seed, 1))
	s = newSimulated(rng)
	return s.handOver(rng, l), s
}

func (s *simulated) handOver(rng *rand.Rand, l limits) (o outcome) {
	c := Course{Domain: simDomain, Old: simOld, New: simNew, OldHere: s.oldHere, OldTells: s.oldHere, Sign: s.sign, Lower: s.lower}
	if s.first {
		c.Old = nil
	}
	if !s.oldHere { // nobody ends what keeps refreshing there: a user passes it
		c.Override = []string{GateOldNames}
	}
	var h delegation.History
	var marks []Mark
	var path Phase
	o.acted = map[Do]int64{}
	t := int64(1)
	for limit := 4000; limit > 0; limit-- {
		w := s.sweep(t, rng)
		h = delegation.Advance(h, w)
		reg := delegation.Registration{Active: c.Old, Saved: c.Old}
		if t >= s.delegated {
			reg.Active, reg.Saved = simNew, simNew
		}
		if s.signedOld && t < s.dsOut || t >= s.dsIn {
			reg.DS = []record.Data{"a DS"}
		}
		var behind []string
		var differences []compare.Difference
		if t < s.synced {
			behind = []string{"new"}
			differences = []compare.Difference{{Key: record.Key{Name: simDomain, Type: record.MX}, Kind: compare.Lost, Old: "10 mx.old.test.", New: ""}}
		}
		seen := Seen{Sweep: w, History: h, Registration: reg, Behind: behind, Differences: differences, Margin: simMargin * time.Second, LargestTTL: uint32(max(s.r, s.n, s.k, s.c)),
			OldPlaced: t < s.retired, Lowered: s.low}
		if o.forecast == nil {
			o.forecast = Forecast(c, seen, 0, Calendar{})
		}
		d := decide(c, marks, seen, l)
		marks = append(marks, d.Marks...)
		if d.Phase != path {
			path = d.Phase
			o.path = append(o.path, fmt.Sprintf("%d %s", t, d))
		}
		if d.Phase == Done {
			o.done, s.ended = true, w.Ended.Sub(simStart).Nanoseconds()/1e9
			break
		}
		if slices.ContainsFunc(d.Closed, func(f finding.Finding) bool { return f.Code == GateCDS }) { // a user sees to it, by and by
			s.cdsOld, s.cdsNew = min(s.cdsOld, t+2*s.poll), min(s.cdsNew, t+2*s.poll)
		}
		for _, do := range d.Do {
			if o.acted[do] == 0 {
				o.acted[do] = t
			}
			moment := t + 1 + rng.Int64N(5)
			switch do {
			case DoSync:
				s.synced = min(s.synced, moment+rng.Int64N(3*s.poll))
			case DoRemoveDS:
				if s.dsOut == never || slices.ContainsFunc(s.parents, func(p simParent) bool { return t >= s.scanned(s.dsOut, p.lag, min(s.cdsOld, s.delegated)) }) {
					s.dsOut = moment // a scan put it there once more
				}
			case DoLower:
				if s.low = true; s.tells {
					s.lowered = min(s.lowered, moment+rng.Int64N(2*s.poll))
				}
			case DoRestore:
				s.low, c.Lower = false, false
			case DoDelegate:
				s.delegated = min(s.delegated, moment)
			case DoTellOld:
				if s.tells {
					s.told = min(s.told, moment)
				}
			case DoAddDS:
				s.dsIn = min(s.dsIn, moment)
			case DoRetire:
				s.retired = min(s.retired, moment)
			}
		}
		next := t + s.poll
		for _, wait := range d.Wait {
			if until := int64(wait.Until.Sub(simStart) / time.Second); !wait.Until.IsZero() && until >= t {
				next = min(next, until+1) // checks go on, and one is made at the moment itself
			}
		}
		t = next
	}
	o.end, o.poll = t, s.poll
	o.wrong, o.slack = s.judge(t + 10*86400)
	o.seen = s.sampled(t+10*86400, rng)
	return o
}

// manyHandovers runs handovers on all processors.
func manyHandovers(n int, l limits, each func(seed uint64, o outcome)) {
	var mu sync.Mutex
	var group sync.WaitGroup
	work := make(chan uint64)
	for range runtime.NumCPU() {
		group.Go(func() {
			for seed := range work {
				o, _ := handOver(seed, l)
				mu.Lock()
				each(seed, o)
				mu.Unlock()
			}
		})
	}
	for seed := range uint64(n) {
		work <- seed
	}
	close(work)
	group.Wait()
}

// Many handovers, of all kinds of TTLs, parents that follow late or fall back, answers that are lost, with and without signatures: no cache ever gets a wrong
// answer, nearly all end, and the old zone goes soon after it may.
func TestSimulatedHandovers(t *testing.T) {
	n := 600
	if os.Getenv("BEACON_SOAK") != "" {
		n = 20000
	}
	began := time.Now()
	done := 0
	late := map[string][]float64{} // by gate, in polls
	manyHandovers(n, limits{}, func(seed uint64, o outcome) {
		if !assert.Empty(t, o.wrong, "seed %d: %v", seed, o.path) || !assert.Empty(t, o.seen, "seed %d, sampled: %v", seed, o.path) {
			return
		}
		if o.done {
			done++
		} else {
			t.Logf("seed %d has not ended: %v", seed, o.path[max(0, len(o.path)-4):])
		}
		for gate, slack := range o.slack {
			late[gate] = append(late[gate], float64(slack-simMargin)/float64(o.poll))
		}
	})
	t.Logf("%d handovers in %s: %d ended", n, time.Since(began).Round(time.Millisecond), done)
	assert.GreaterOrEqual(t, done, n*99/100)
	for _, gate := range []string{"delegated, after a DS", "the old zone goes", "the new DS"} {
		require.NotEmpty(t, late[gate], gate)
		slices.Sort(late[gate])
		median := late[gate][len(late[gate])/2]
		t.Logf("%s: %d times, the median %.2f polls after the margin", gate, len(late[gate]), median)
		assert.LessOrEqual(t, median, 1.0, gate)
	}
}

// Each rule that is switched off is noticed. What a sampled resolver sees go wrong, the judge of all caches calls wrong too.
func TestSimulationNoticesWhatIsMissing(t *testing.T) {
	n := 150
	if os.Getenv("BEACON_SOAK") != "" {
		n = 500
	}
	for _, rules := range [][]string{{"K after the DS"}, {"TTL of the DS"}, {GateDS}, {GateDSWait}, {GateDSUnknown}, {GateCDS}, {GateNotReady}, {"sync before the switch", GateAnswers}, {"every parent heard"},
		{"reset of T", "complete after the switch"}, {"absence"}, {"P"}, {"C after P"}, {"Tc"}, {"D"}, {"margin"}, {"largest TTL before the DS"}, {"signed at every new server"}, {"since when it is signed"}} {
		wrong, seen, first, off := 0, 0, "", map[string]bool{}
		for _, rule := range rules {
			off[rule] = true
		}
		rule := strings.Join(rules, ", ")
		manyHandovers(n, limits{off: off}, func(seed uint64, o outcome) {
			if len(o.seen) > 0 {
				seen++
				assert.NotEmpty(t, o.wrong, "seed %d: a resolver saw %s", seed, o.seen)
			}
			if len(o.wrong) > 0 {
				if wrong++; first == "" {
					first = o.wrong[0]
				}
			}
		})
		t.Logf("without %q: %d of %d wrong, of which sampled resolvers saw %d, such as: %s", rule, wrong, n, seen, first)
		assert.Positive(t, wrong, "nothing noticed that %q was off", rule)
	}
}
