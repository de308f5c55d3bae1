package dynaddr

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A year of a host, drawn by chance: what its lines are really like, who reports what and when, and what the policy asks for. The judge below knows the lines and
// the policy's words, and no formula of the code.
type yearOf struct {
	rng    *rand.Rand
	policy Policy
	lines  [2]line // the second may be unused
	used   int

	interval, hold, most, failover, silence int64 // seconds, as the policy says
	remove                                  bool

	state Uplinks
	host  Host
	next  int64

	writes  []write
	wanted  netip.Addr // what the name should have, by the judge
	since   int64      // since when that is wanted
	wants   int        // how often that changed
	wrong   []string
	seen    [2]int64 // last honest report of each line
	claimed [2]netip.Addr
}

// line is what an uplink really is.
type line struct {
	addr  netip.Addr
	down  bool
	every int64 // reports besides changes
}

type write struct {
	at   int64
	addr netip.Addr
}

const yearLong = 365 * 86400

func moment(t int64) time.Time { return noon.Add(time.Duration(t) * time.Second) }

func newYear(seed uint64) *yearOf {
	rng := rand.New(rand.NewPCG(seed, 7))
	pick := func(list ...int64) int64 { return list[rng.IntN(len(list))] }
	y := &yearOf{rng: rng, used: 1 + rng.IntN(2), interval: pick(0, 0, 300, 3600), hold: pick(0, 30, 120), failover: pick(1800, 7200), silence: pick(0, 86400, 4*86400), remove: rng.IntN(2) == 0, since: -1}
	y.most = y.hold * pick(1, 8, 30)
	nets := []netip.Prefix{netip.MustParsePrefix("8.0.0.0/8"), netip.MustParsePrefix("10.1.0.0/16")}
	action, source := KeepSilent, NoSource
	if y.remove {
		action = RemoveSilent
	}
	if rng.IntN(3) == 0 {
		source = TokenSource
	}
	u32 := func(v int64) *uint32 { return n(uint32(v)) }
	y.policy = Policy{MinInterval: u32(y.interval), HoldDown: u32(y.hold), MaxHoldDown: u32(y.most), Failover: u32(y.failover), Silence: u32(y.silence), OnSilence: &action, SecondSource: &source, Networks: &nets}
	for i := range y.lines {
		y.lines[i] = line{addr: y.draw(), every: y.failover / 3}
		if y.used == 1 { // nobody takes over: seldom is often enough
			y.lines[i].every = 6 * 3600
		}
	}
	y.state = Uplinks{List: make([]Uplink, y.used), Since: moment(0)}
	return y
}

func (y *yearOf) draw() netip.Addr {
	return netip.AddrFrom4([4]byte{8, byte(y.rng.IntN(4)), byte(y.rng.IntN(256)), byte(1 + y.rng.IntN(254))})
}

// event is something that happens to a line.
type event struct {
	at   int64
	line int
	kind eventKind
}

type eventKind int

const (
	keepsAlive eventKind = iota
	changes
	falls
	rises
	reportsPrivate  // an address of the inner network, by accident
	reportsStranger // an address that is not the line's, by one source alone
	ends
)

// plan draws what happens in the year, in order of time.
func (y *yearOf) plan() (list []event) {
	for i := range y.used {
		for t := y.rng.Int64N(600); t < yearLong; t += y.lines[i].every - y.rng.Int64N(y.lines[i].every/8) {
			list = append(list, event{t, i, keepsAlive})
		}
		for t := y.rng.Int64N(86400); t < yearLong; t += 3600 + y.rng.Int64N(3*86400) {
			list = append(list, event{t, i, changes})
		}
		for range y.rng.IntN(4) { // it flaps for an hour or three
			from, every := y.rng.Int64N(yearLong), 5+y.rng.Int64N(60)
			for t := from; t < min(from+3600*(1+y.rng.Int64N(3)), yearLong); t += every {
				list = append(list, event{t, i, changes})
			}
		}
		for range y.rng.IntN(5) {
			from := y.rng.Int64N(yearLong)
			list = append(list, event{from, i, falls}, event{min(from+y.rng.Int64N(6*86400), yearLong), i, rises})
		}
		for range 20 {
			list = append(list, event{y.rng.Int64N(yearLong), i, reportsPrivate}, event{y.rng.Int64N(yearLong), i, reportsStranger})
		}
	}
	list = append(list, event{at: yearLong + 30*86400, kind: ends})
	for i := range y.used { // at the end all is well again
		list = append(list, event{yearLong + 1, i, rises})
		for t := int64(yearLong + 2); t < yearLong+30*86400; t += y.lines[i].every {
			list = append(list, event{t, i, keepsAlive})
		}
	}
	slices.SortStableFunc(list, func(a, b event) int { return int(a.at - b.at) })
	return list
}

func (y *yearOf) run(as Policy) {
	follows := Follows{Families: Families{V4: true}, Policy: as}
	y.wanted = netip.Addr{}
	follow := func(t int64) {
		was := y.host.V4.Addr
		var next time.Time
		y.host, next = Follow(follows, y.state, y.host, moment(t), nil)
		if now := y.host.V4.Addr; now != was {
			y.writes = append(y.writes, write{t, now})
			y.judgeWrite(t, now)
		}
		y.next = -1
		if !next.IsZero() {
			y.next = int64(next.Sub(noon) / time.Second)
		}
	}
	y.next = -1
	follow(0)
	for _, e := range y.plan() {
		for y.next >= 0 && y.next <= e.at {
			t := y.next
			y.want(t)
			follow(t)
			y.judgeWait(t)
		}
		y.want(e.at)
		y.judgeWait(e.at)
		l := &y.lines[e.line]
		switch e.kind {
		case changes:
			l.addr = y.draw()
			if y.rng.IntN(3) == 0 && e.at > 0 { // back to where it was
				l.addr = netip.AddrFrom4([4]byte{8, 0, 0, byte(1 + y.rng.IntN(2))})
			}
		case falls:
			l.down = true
		case rises:
			l.down = false
		}
		if l.down || e.kind == falls || e.kind == ends {
			follow(e.at)
			continue
		}
		say := func(source string, a netip.Addr) {
			j := y.state.List[e.line].Take(as, Families{V4: true}, Report{Addresses: Addresses{V4: a}, Source: source, At: moment(e.at)}, nil)
			y.state.List[e.line] = j.Uplink
		}
		switch e.kind {
		case reportsPrivate:
			say("a", netip.MustParseAddr("192.168.0.7"))
		case reportsStranger:
			if *y.policy.SecondSource == TokenSource {
				say("b", netip.MustParseAddr("8.99.99.99"))
				y.seen[e.line] = e.at
			}
		default:
			say("a", l.addr)
			if *y.policy.SecondSource == TokenSource {
				say("b", l.addr)
			}
			y.seen[e.line], y.claimed[e.line] = e.at, l.addr
		}
		y.want(e.at)
		follow(e.at)
	}
	y.want(yearLong + 30*86400)
	if got := y.host.V4.Addr; got != y.wanted {
		y.fault("in the end it is at %s, and should be at %s", got, y.wanted)
	}
	if len(y.writes) > y.wants {
		y.fault("%d writes for %d changes", len(y.writes), y.wants)
	}
}

// want works out what the name should have, were there no holds.
func (y *yearOf) want(t int64) {
	wanted := netip.Addr{}
	found := false
	for i := range y.used { // the best that reports
		if y.claimed[i].IsValid() && t < y.seen[i]+y.failover {
			wanted, found = y.claimed[i], true
			break
		}
	}
	for i := range y.used {
		if !found && y.claimed[i].IsValid() {
			wanted, found = y.claimed[i], true
		}
	}
	if last := max(y.seen[0], y.seen[1]); y.silence > 0 && y.remove && t >= last+y.silence {
		wanted = netip.Addr{}
	}
	if wanted != y.wanted || y.since < 0 {
		y.wanted, y.since = wanted, t
		y.wants++
	}
}

// judgeWrite holds a write against the policy's words.
func (y *yearOf) judgeWrite(t int64, to netip.Addr) {
	switch {
	case to != y.wanted:
		y.fault("at %d it moves to %s, and should be at %s", t, to, y.wanted)
	case to.IsPrivate():
		y.fault("at %d it moves to a private address", t)
	}
	if k := len(y.writes); k > 1 && t-y.writes[k-2].at < y.interval {
		y.fault("at %d it moves after %d s, the least interval is %d s", t, t-y.writes[k-2].at, y.interval)
	}
	if y.hold == 0 {
		return
	}
	if k := len(y.writes); k > 3 && t-y.writes[k-4].at < y.hold {
		y.fault("at %d: four moves within %d s, though quick changes are held down for %d s", t, t-y.writes[k-4].at, y.hold)
	}
	if hour := int64(3600); y.most >= 8*y.hold { // it backs off
		recent := 0
		for _, w := range y.writes {
			if w.at > t-hour {
				recent++
			}
		}
		limit := 2
		for held, sum := y.hold, int64(0); sum < hour; held = min(2*held, y.most) {
			sum += held
			limit++
		}
		if recent > limit+2 {
			y.fault("at %d: %d moves within an hour", t, recent)
		}
	}
}

// judgeWait reports a name that has waited for longer than it had to.
func (y *yearOf) judgeWait(t int64) {
	if y.host.V4.Addr == y.wanted || y.since < 0 {
		return
	}
	if waited := t - y.since; waited > max(y.interval, y.most, y.hold) {
		y.fault("at %d it waits since %d for %s", t, y.since, y.wanted)
	}
}

func (y *yearOf) fault(format string, args ...any) {
	if len(y.wrong) < 3 {
		y.wrong = append(y.wrong, fmt.Sprintf(format, args...))
	}
}

// years runs many hosts, each under its policy as something changed it, and returns what was wrong, by seed.
func years(many int, changed func(*Policy)) map[uint64][]string {
	var mu sync.Mutex
	wrong := map[uint64][]string{}
	var group sync.WaitGroup
	work := make(chan uint64)
	for range 2 {
		group.Go(func() {
			for seed := range work {
				y := newYear(seed)
				as := y.policy
				if changed != nil {
					changed(&as)
				}
				y.run(as)
				if len(y.wrong) > 0 {
					mu.Lock()
					wrong[seed] = y.wrong
					mu.Unlock()
				}
			}
		})
	}
	for seed := range uint64(many) {
		work <- seed
	}
	close(work)
	group.Wait()
	return wrong
}

// A year of many hosts: at the end each name has the newest believable address; none is written more often than its address changed, nor waits for longer than its policy says.
func TestAYearOfHosts(t *testing.T) {
	many := 200
	if os.Getenv("BEACON_SOAK") != "" {
		many = 10000
	}
	began := time.Now()
	wrong := years(many, nil)
	for seed, list := range wrong {
		t.Errorf("host %d: %v", seed, list)
		if t.Failed() && len(wrong) > 20 {
			break
		}
	}
	t.Logf("a year of %d hosts in %s", many, time.Since(began).Round(time.Millisecond))
}

// Each policy that is switched off is noticed.
func TestAYearWithoutAPolicy(t *testing.T) {
	for name, off := range map[string]func(*Policy){
		"networks":          func(p *Policy) { p.Networks = &[]netip.Prefix{netip.MustParsePrefix("0.0.0.0/0")} },
		"least interval":    func(p *Policy) { p.MinInterval = n(0) },
		"hold-down":         func(p *Policy) { p.HoldDown = n(0) },
		"back-off":          func(p *Policy) { p.MaxHoldDown = n(0) },
		"second source":     func(p *Policy) { p.SecondSource = is(NoSource) },
		"failover":          func(p *Policy) { p.Failover = n(400 * 86400) },
		"silence":           func(p *Policy) { p.Silence = n(0) },
		"what silence does": func(p *Policy) { p.OnSilence = is(KeepSilent) },
	} {
		wrong := years(60, off)
		assert.NotEmpty(t, wrong, "without %s", name)
		t.Logf("without %s: %d of 60 wrong", name, len(wrong))
	}
}
