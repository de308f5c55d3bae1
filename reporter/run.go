package reporter

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"beacon/core/reporter"
	"beacon/reach"
)

// Options say what is reported, and how.
type Options struct {
	Address   string // of the service
	Host      string // empty where the token says it
	TokenFile string
	V4, V6    From
	Any       bool // whatever the report comes from, of whichever family
	Prefix    From // an interface; the zero From for none
	Bits      int  // length of the prefix
	Every     time.Duration
	StateFile string // empty for none
	Door      *reach.Door

	Announcements netip.AddrPort                   // where routers announce another address
	Note          func(format string, args ...any) // is told of what is new; nil for nobody
}

// Reporter reports the addresses of this machine.
type Reporter struct {
	Options
	now  func() time.Time
	tick time.Duration // how often the clock is looked at

	mu      sync.Mutex // of what sources share
	clients map[string]*http.Client
	routers map[netip.Addr]bool

	v4, v6, prefix reporter.Family
	found4, found6 netip.Addr
	state          State
	trouble        map[string]string
}

// New returns a reporter.
func New(o Options) *Reporter {
	if !o.Announcements.IsValid() {
		o.Announcements = reporter.Announcements
	}
	r := &Reporter{Options: o, now: time.Now, tick: clockEach}
	r.state = State{Host: o.Host, Address: o.Address, PID: os.Getpid(), Began: r.now(), Every: o.Every}
	return r
}

func (r *Reporter) note(format string, args ...any) {
	if r.Note != nil {
		r.Note(format, args...)
	}
}

// report is one request to be made.
type report struct {
	family  string // v4 or v6
	network string
	said    url.Values
}

// gather finds out what there is to report, family by family, and when that is to be looked at again without a change; zero for never.
func (r *Reporter) gather(ctx context.Context) (list []report, again time.Time) {
	r.trouble = map[string]string{}
	soon := func(at time.Time) {
		if !at.IsZero() && (again.IsZero() || at.Before(again)) {
			again = at
		}
	}
	look := func(parameter string, from From, four bool, family *reporter.Family, found *netip.Addr) (say string) {
		a, err := r.find(ctx, from, four, *found)
		if err != nil {
			r.trouble[parameter] = err.Error()
			return family.Addr // as it was
		}
		text := ""
		if *found = a; a.IsValid() {
			text = a.String()
		}
		say, at := family.See(text, r.now())
		soon(at)
		return say
	}
	for _, f := range []struct {
		name  string
		from  From
		four  bool
		state *reporter.Family
		found *netip.Addr
	}{{"v4", r.V4, true, &r.v4, &r.found4}, {"v6", r.V6, false, &r.v6, &r.found6}} {
		said := url.Values{}
		switch f.from.Kind {
		case "":
		case Service:
			list = append(list, report{f.name, overFamily(f.four), said})
			continue
		default:
			if say := look(f.name, f.from, f.four, f.state, f.found); say != "" {
				said.Set(f.name, say)
			}
		}
		if f.name == "v6" && r.Prefix.Kind != "" {
			say, at, err := r.prefixes()
			if soon(at); err != nil {
				r.trouble["prefix"] = err.Error()
			}
			if say == reporter.None { // its addresses are gone with it
				said.Set("v6", reporter.None)
			} else if say != "" {
				said.Set("prefix", say)
			}
		}
		if len(said) > 0 {
			list = append(list, report{f.name, "tcp", said})
		}
	}
	if r.Any {
		list = append(list, report{"any", "tcp", url.Values{}})
	}
	return list, again
}

// prefixes returns the IPv6 prefixes of the interface, the preferred one first.
func (r *Reporter) prefixes() (say string, again time.Time, err error) {
	list, err := addresses(r.Prefix.Value)
	if err != nil {
		return r.prefix.Addr, again, fmt.Errorf("%w: interface %s: %w", errUnknown, r.Prefix.Value, err)
	}
	var all []string
	for _, p := range reporter.Prefixes(list, r.Bits) {
		all = append(all, p.String())
	}
	say, again = r.prefix.See(strings.Join(all, ","), r.now())
	return say, again, nil
}

// Found returns what would be reported, a line each, and what is not known.
func (r *Reporter) Found(ctx context.Context) (said, trouble map[string]string) {
	list, _ := r.gather(ctx)
	said = map[string]string{}
	for _, one := range list {
		for name := range one.said {
			said[name] = one.said.Get(name)
		}
		if len(one.said) == 0 {
			said[one.family] = "the address that the report comes from"
		}
	}
	return said, r.trouble
}

// errNothing says that there is nothing to report.
var errNothing = errors.New("no address was found")

// Once reports once. It returns what the service answered, or why nothing was reported.
func (r *Reporter) Once(ctx context.Context) (answers []Answer, err error) {
	list, _ := r.gather(ctx)
	if len(list) == 0 {
		err = errNothing
		for name, why := range r.trouble {
			err = fmt.Errorf("%w: %s: %s", err, name, why)
		}
		return nil, err
	}
	return r.reportAll(ctx, list), nil
}

// reportAll makes reports, and keeps how they went.
func (r *Reporter) reportAll(ctx context.Context, list []report) (answers []Answer) {
	s := &r.state
	s.Tried, s.Said, s.Answers, s.Trouble, s.Refused = r.now(), map[string]string{}, map[string]string{}, r.trouble, false
	for _, one := range list {
		for name := range one.said {
			s.Said[name] = one.said.Get(name)
		}
		a := r.send(ctx, one.network, one.said)
		answers = append(answers, a)
		s.Answers[one.family] = a.Line
		s.Refused = s.Refused || a.Outcome == reporter.Refused
		if a.Outcome != reporter.Lost {
			s.Reached = r.now()
		}
	}
	return answers
}

// What the loop does not wait for longer, real time: for more changes after one, and for the next look at the clock. A clock that jumped, or a machine that slept, is seen with that look.
const (
	settleFor = 200 * time.Millisecond
	clockEach = 30 * time.Second
	jump      = 5 * time.Second
	startOver = 2 * time.Second // the most that the first report is put off, so that many machines do not report together after a power cut
)

// Run reports until ctx ends: at once when something changes, else seldom.
func (r *Reporter) Run(ctx context.Context) {
	changed := make(chan struct{}, 1)
	ring := func() {
		select {
		case changed <- struct{}{}:
		default:
		}
	}
	var group sync.WaitGroup
	defer group.Wait()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	follow := func(what string, f func(context.Context, func()) error) {
		group.Go(func() {
			for told := ""; ctx.Err() == nil; {
				if err := f(ctx, ring); err != nil && err.Error() != told {
					told = err.Error()
					r.note("%s: %s; changes are seen with the next report only", what, err)
				}
				pause(ctx, time.Minute)
			}
		})
	}
	uses := func(k Kind) bool { return r.V4.Kind == k || r.V6.Kind == k || r.Prefix.Kind == k }
	if uses(Interface) || uses(Router) || uses(Service) || r.Any {
		follow("the kernel's notifications", watch)
	}
	if uses(Router) {
		follow("the router's announcements", r.listen)
	}
	schedule := reporter.Schedule{Every: r.Every}
	shown := map[string]string{}
	pause(ctx, time.Duration(rand.Float64()*float64(startOver)))
	said := ""
	for ctx.Err() == nil {
		steady := r.steady() // from here on: the clock may be stepped while a report is made
		list, again := r.gather(ctx)
		var next time.Duration
		if len(list) > 0 || len(r.trouble) == 0 {
			said = fmt.Sprint(list)
			answers := r.reportAll(ctx, list)
			if ctx.Err() != nil {
				break
			}
			worst, wait := reporter.Taken, time.Duration(0)
			for _, a := range answers {
				worst, wait = max(worst, a.Outcome), max(wait, a.Wait)
			}
			next = schedule.After(worst, wait, rand.Float64())
		} else {
			r.state.Trouble = r.trouble
			next = schedule.After(reporter.Lost, 0, rand.Float64())
		}
		r.say(shown)
		r.state.Next = r.now().Add(next)
		if err := r.state.keep(r.StateFile); err != nil {
			r.note("the state cannot be kept: %s", err)
		}
		r.await(ctx, changed, next, again, said, steady)
	}
}

// say notes answers that are new: the same again and again is not worth a line.
func (r *Reporter) say(shown map[string]string) {
	for _, of := range []map[string]string{r.state.Answers, r.trouble} {
		for family, line := range of {
			if short := strings.Replace(line, "accepted ", "unchanged ", 1); shown[family] != short {
				r.note("%s: %s", family, line)
				shown[family] = short
			}
		}
	}
}

// await returns when a report is due: after next; at the moment again; when something that is reported has changed; or when the clock jumped, as it does while a machine sleeps.
func (r *Reporter) await(ctx context.Context, changed <-chan struct{}, next time.Duration, again time.Time, said string, steady func() bool) {
	began := time.Now()
	for ctx.Err() == nil {
		left := next - time.Since(began)
		if left <= 0 || !again.IsZero() && !r.now().Before(again) {
			return
		}
		wait := min(left, r.tick)
		if !again.IsZero() {
			wait = min(wait, max(again.Sub(r.now()), 0)+time.Millisecond)
		}
		timer := time.NewTimer(wait)
		select {
		case <-ctx.Done():
		case <-timer.C:
		case <-changed:
			pause(ctx, settleFor)
			list, at := r.gather(ctx)
			if fmt.Sprint(list) != said || r.servesItself(list) {
				timer.Stop()
				return
			}
			again = at
		}
		timer.Stop()
		if !steady() {
			return
		}
	}
}

// steady returns what reports whether the clock has gone on since now as time does: it has not where it was stepped, or where the machine slept.
func (r *Reporter) steady() func() bool {
	began, real := time.Now(), r.now().Round(0)
	return func() bool {
		drift := r.now().Round(0).Sub(real) - time.Since(began)
		return drift.Abs() <= jump
	}
}

// servesItself reports whether a report has the address that it comes from: what changes about that is not seen here.
func (r *Reporter) servesItself(list []report) bool {
	for _, one := range list {
		if len(one.said) == 0 {
			return true
		}
	}
	return false
}

func pause(ctx context.Context, d time.Duration) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-timer.C:
	}
}
