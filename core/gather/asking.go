package gather

import (
	"net/netip"
	"slices"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// Options say what an Asking begins with.
type Options struct {
	Names []dnsname.Name // known from elsewhere; each is asked for
	Known []record.Key   // sets that exist, where all are known: then these are asked for and nothing else
	Label string         // a label that nobody has
	Most  int            // questions at most; 3,000 where it is 0
}

// Question is what to ask a nameserver of the zone.
type Question struct {
	Key   record.Key
	Round int // 0 the first time; later rounds should go to other nameservers, where there are some
}

// visitors are the networks that later rounds ask for: a nameserver that answers by place says so, whether or not it knows where they are.
var visitors = [roundsAgain]netip.Prefix{netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("203.0.113.0/24")}

// Visitor returns the network that a question is to be asked for (RFC 7871); the zero value for none.
func (q Question) Visitor() netip.Prefix {
	if q.Round == 0 || q.Round > roundsAgain {
		return netip.Prefix{}
	}
	return visitors[q.Round-1]
}

// Asking finds records by asking for names: usual ones, those that are known from elsewhere, and those that the records found lead to. It knows wildcards, empty
// non-terminals, delegations, zones below on the same servers, and denials made for the question; it asks no more below a name that does not exist (RFC 8020).
//
// Next returns questions, Take takes their answers, in any order; Outcome is the source once Next returns none while none is open.
type Asking struct {
	zone     dnsname.Name
	opt      Options
	nodes    map[dnsname.Name]*node
	queue    []Question
	asked    map[Question]bool
	open     int
	total    int
	unheard  []record.Key
	silent   int // questions in a row that were not answered
	heard    int
	probe    record.Type // what tells whether a name exists
	oddly    int         // how often that was not answered
	stage    stage
	probes   map[dnsname.Name]dnsname.Name // made-up names, and the level that each stands for
	levels   map[dnsname.Name]bool         // levels that were probed: whether made-up names exist there
	cuts     map[dnsname.Name]bool
	children map[dnsname.Name]bool
	glue     []record.Set
	again    map[record.Key][]record.Set // address sets as they were answered in later rounds
	placed   map[record.Key]bool         // sets whose answer depends on where a visitor is
	serials  []uint32
	chain    chain
}

type stage int

const (
	atApex stage = iota // the apex and its wildcard: what follows is judged by them
	byName
	byLevel
	byHash
	onceMore
	finished
)

// state is what is known of a name.
type state int

const (
	untried state = iota
	probing
	sampling // it is compared with the wildcard that may stand behind it
	existing
	absent
	beneath   // at or below a delegation, or in another zone
	wildcards // it answers as the wildcard does
)

type node struct {
	state  state
	forced bool // known from data, not guessed
	sets   map[record.Type]record.Set
	synth  bool // signatures show that a wildcard stands behind its data
	sample int  // answers that sampling waits for
	held   []dnsname.Name
}

const nobodysType record.Type = 65400 // for private use (RFC 6895 section 3.1)

const (
	mostAsked    = 3000
	mostSilent   = 12  // questions in a row without an answer, after which a server is left alone
	roundsAgain  = 2   // how often address sets are asked for once more
	mostGapsDone = 500 // questions that look for the rest of an NSEC3 chain
)

// NewAsking begins to ask for the records of a zone.
func NewAsking(zone dnsname.Name, opt Options) *Asking {
	if opt.Most == 0 {
		opt.Most = mostAsked
	}
	a := &Asking{zone: zone, opt: opt, probe: nobodysType, nodes: map[dnsname.Name]*node{}, asked: map[Question]bool{}, probes: map[dnsname.Name]dnsname.Name{}, levels: map[dnsname.Name]bool{},
		cuts: map[dnsname.Name]bool{}, children: map[dnsname.Name]bool{}, again: map[record.Key][]record.Set{}, placed: map[record.Key]bool{}}
	if len(opt.Known) > 0 {
		a.stage = onceMore - 1
		for _, k := range opt.Known {
			a.node(k.Name).state = existing
			a.ask(k, 0)
		}
		return a
	}
	apex := a.node(zone)
	apex.state, apex.forced = existing, true
	for _, t := range apexTypes {
		a.ask(record.Key{Name: zone, Type: t}, 0)
	}
	a.probeLevel(zone)
	return a
}

func (a *Asking) node(name dnsname.Name) *node {
	n := a.nodes[name]
	if n == nil {
		n = &node{sets: map[record.Type]record.Set{}}
		a.nodes[name] = n
	}
	return n
}

func (a *Asking) ask(k record.Key, round int) {
	q := Question{k, round}
	if !a.asked[q] {
		a.asked[q] = true
		a.queue = append(a.queue, q)
	}
}

// Next returns up to n questions to be asked now. It returns none while all depends on answers that are open, and none once there is nothing left to ask.
func (a *Asking) Next(n int) []Question {
	for len(a.queue) == 0 && a.open == 0 && a.stage < finished {
		a.advance()
	}
	if a.total >= a.opt.Most || a.silent >= mostSilent {
		return nil
	}
	n = min(n, len(a.queue), a.opt.Most-a.total)
	list := slices.Clone(a.queue[:n])
	a.queue = a.queue[n:]
	a.open, a.total = a.open+n, a.total+n
	return list
}

// advance goes on to what can be asked now that everything before it is known.
func (a *Asking) advance() {
	switch a.stage {
	case atApex:
		a.stage = byName
		for _, name := range a.opt.Names {
			a.want(name, true)
		}
		for _, label := range usualLabels {
			if name, err := dnsname.ParseRelative(label, a.zone); err == nil {
				a.want(name, false)
			}
		}
	case byName, byLevel:
		a.stage = byLevel
		before := len(a.queue)
		for _, name := range a.sortedNames() {
			if n := a.nodes[name]; n.state == existing && !a.covered(name) && (len(n.sets) > 0 || n.forced) {
				for at := name; at.IsAtOrBelow(a.zone); at = at.Parent() {
					a.probeLevel(at)
					if at == a.zone {
						break
					}
				}
			}
		}
		if len(a.queue) == before {
			a.stage = byHash
		}
	case byHash:
		if len(a.opt.Known) > 0 || !a.fillChain() {
			a.stage = onceMore
			a.askAgain()
		}
	case onceMore:
		a.stage = finished
	}
}

// probeLevel asks for a name that nobody has below another one, once: whether it exists tells of a wildcard.
func (a *Asking) probeLevel(level dnsname.Name) {
	if _, done := a.levels[level]; done || level.IsWildcard() {
		return
	}
	a.levels[level] = false
	name, err := dnsname.ParseRelative(a.opt.Label, level)
	if err != nil {
		return // too long: then nobody has one there
	}
	a.probes[name] = level
	a.ask(record.Key{Name: name, Type: a.probe}, 0)
}

// want has a name asked for; one that is only guessed waits until it is known whether the name above exists.
func (a *Asking) want(name dnsname.Name, forced bool) {
	if !name.IsBelow(a.zone) || a.cutAbove(name) {
		return
	}
	n := a.node(name)
	n.forced = n.forced || forced
	if n.state == wildcards && forced {
		a.exists(name, n, nil)
	}
	if n.state != untried {
		return
	}
	if parent := name.Parent(); !forced && parent != a.zone {
		a.want(parent, false)
		switch above := a.node(parent); above.state {
		case untried, probing, sampling:
			above.held = append(above.held, name)
			return
		case absent, beneath:
			return
		}
	}
	n.state = probing
	a.ask(record.Key{Name: name, Type: a.probe}, 0)
}

// Take takes the answer to a question; nil where none came.
func (a *Asking) Take(q Question, m *dns.Msg) {
	a.open--
	r := read(a.zone, q.Key, m)
	a.count(q.Key, m != nil)
	a.chain.add(a.zone, r.hashed)
	if r.hasSerial && r.owner == a.zone && !slices.Contains(a.serials, r.serial) && len(a.serials) < 9 {
		a.serials = append(a.serials, r.serial)
	}
	if q.Round > 0 {
		if r.kind == positive {
			a.placed[q.Key] = a.placed[q.Key] || byPlace(m)
			a.again[q.Key] = append(a.again[q.Key], r.sets...)
		}
		return
	}
	if level, made := a.probes[q.Key.Name]; made {
		a.tookProbe(level, q.Key, r)
		return
	}
	n := a.node(q.Key.Name)
	switch r.kind {
	case unheard:
		if q.Key.Type == nobodysType {
			a.exists(q.Key.Name, n, nil)
			return
		}
		a.unheard = append(a.unheard, q.Key)
	case referral:
		a.tookReferral(r)
	case foreign:
		a.tookForeign(r.owner)
	case noName:
		if n.state == probing || n.state == sampling || len(n.sets) == 0 && n.state == existing && !a.children[q.Key.Name] {
			a.settle(n, absent)
		}
	case positive, noData:
		a.tookData(q.Key, n, r)
	}
}

// count takes note of whether a question was answered. Where questions for a type that nobody has are not, and others are, names are probed for addresses instead.
func (a *Asking) count(k record.Key, heard bool) {
	switch {
	case heard:
		a.heard++
		a.silent = 0
		return
	case k.Type != nobodysType:
		a.silent++
		return
	}
	if a.oddly++; a.oddly > 1 && a.heard > 0 {
		a.probe = record.A
	} else if a.heard == 0 {
		a.silent++
	}
}

// tookData takes an answer of a name that exists.
func (a *Asking) tookData(k record.Key, n *node, r reply) {
	n.synth = n.synth || r.wildcard
	for _, set := range r.sets {
		owner := a.node(set.Name)
		owner.sets[set.Type] = set
		if set.Type == record.DNAME { // all below it is made from it
			a.cuts[set.Name] = true
			if owner != n {
				a.settle(n, beneath)
			}
			owner.state = existing
		}
		for _, name := range namesIn(a.zone, set) {
			a.want(name, true)
		}
	}
	switch {
	case n.state == sampling:
		if n.sample--; n.sample == 0 {
			a.sampled(k.Name, n)
		}
	case n.state == probing && k.Type != nobodysType && n.sets[record.CNAME].IsZero() && (n.forced || a.wildcardAbove(k.Name) == nil):
		a.exists(k.Name, n, nil)
	case n.state == probing && !n.sets[record.CNAME].IsZero(): // an alias has nothing else (RFC 1034 section 3.6.2)
		a.settle(n, existing)
		if wild := a.wildcardAbove(k.Name); wild != nil && !n.forced && sameSets(n, wild) {
			n.state = wildcards
		}
	case n.state == probing && r.madeUp && !hasData(r.types): // it may be an empty non-terminal: what is below it is tried
		a.settle(n, existing)
	case n.state == probing:
		if wild := a.wildcardAbove(k.Name); wild != nil && !n.forced && len(wild.sets) > 0 {
			n.state = sampling
			for t := range wild.sets {
				if !a.asked[Question{record.Key{Name: k.Name, Type: t}, 0}] {
					n.sample++
					a.ask(record.Key{Name: k.Name, Type: t}, 0)
				}
			}
			if n.sample == 0 {
				a.sampled(k.Name, n)
			}
			return
		}
		var only []record.Type
		if !r.next.IsZero() && !r.madeUp {
			only = r.types
		}
		a.exists(k.Name, n, only)
	}
}

// hasData reports whether a bitmap has a type besides those of the proof itself.
func hasData(types []record.Type) bool {
	return slices.ContainsFunc(types, func(t record.Type) bool { return !plumbing[t] && t != typeNone })
}

// sampled judges a name by the types of the wildcard that may stand behind it.
func (a *Asking) sampled(name dnsname.Name, n *node) {
	if wild := a.wildcardAbove(name); wild != nil && sameSets(n, wild) {
		a.settle(n, wildcards)
		return
	}
	a.exists(name, n, nil)
}

// exists has a name that exists asked for all types, or for those alone that it is known to have.
func (a *Asking) exists(name dnsname.Name, n *node, only []record.Type) {
	list := typesFor(a.zone, name)
	if only != nil {
		list = slices.DeleteFunc(slices.Clone(only), func(t record.Type) bool { return Plumbing(a.zone, record.Key{Name: name, Type: t}) })
	}
	a.settle(n, existing)
	for _, t := range list {
		a.ask(record.Key{Name: name, Type: t}, 0)
	}
}

// settle sets the state of a name, and lets go of the guesses that waited for it.
func (a *Asking) settle(n *node, to state) {
	n.state = to
	held := n.held
	n.held = nil
	for _, name := range held {
		a.want(name, false)
	}
}

// tookProbe takes the answer for a made-up name: where it exists, a wildcard stands behind it, or the provider answers everything.
func (a *Asking) tookProbe(level dnsname.Name, k record.Key, r reply) {
	switch r.kind {
	case referral:
		a.tookReferral(r)
	case foreign:
		a.tookForeign(r.owner)
	case unheard:
		if k.Type == nobodysType { // odd types trouble some servers
			a.ask(record.Key{Name: k.Name, Type: record.A}, 0)
		}
	case positive, noData:
		if a.levels[level] {
			for _, set := range r.sets {
				a.node(k.Name).sets[set.Type] = set
			}
			return
		}
		if r.madeUp && !hasData(r.types) && len(r.sets) == 0 {
			return
		}
		a.levels[level] = true
		if star, err := dnsname.ParseRelative("*", level); err == nil {
			a.want(star, true)
		}
		for _, set := range r.sets {
			a.node(k.Name).sets[set.Type] = set
		}
		for _, t := range usualTypes {
			a.ask(record.Key{Name: k.Name, Type: t}, 0)
		}
	}
}

// tookReferral takes a delegation.
func (a *Asking) tookReferral(r reply) {
	if a.cuts[r.owner] {
		return
	}
	a.cuts[r.owner] = true
	n := a.node(r.owner)
	n.sets = map[record.Type]record.Set{record.NS: r.cut}
	a.settle(n, existing)
	a.glue = append(a.glue, r.glue...)
	a.ask(record.Key{Name: r.owner, Type: record.DS}, 0)
}

// tookForeign takes that another zone on the same server answers.
func (a *Asking) tookForeign(child dnsname.Name) {
	if a.children[child] || a.cuts[child] {
		return
	}
	a.children[child], a.cuts[child] = true, true
	n := a.node(child)
	n.sets = map[record.Type]record.Set{}
	a.settle(n, existing)
	a.ask(record.Key{Name: child, Type: record.NS}, 0)
	a.ask(record.Key{Name: child, Type: record.DS}, 0)
}

// cutAbove reports whether a name is below a delegation.
func (a *Asking) cutAbove(name dnsname.Name) bool {
	for at := name.Parent(); at.IsBelow(a.zone); at = at.Parent() {
		if a.cuts[at] {
			return true
		}
	}
	return false
}

// askAgain asks for address sets once more: what is no record of the zone may vary, or count down.
func (a *Asking) askAgain() {
	for _, name := range a.sortedNames() {
		if a.covered(name) {
			continue
		}
		for t := range a.nodes[name].sets {
			if t == record.A || t == record.AAAA {
				for round := range roundsAgain {
					a.ask(record.Key{Name: name, Type: t}, round+1)
				}
			}
		}
	}
}

func (a *Asking) sortedNames() []dnsname.Name {
	names := make([]dnsname.Name, 0, len(a.nodes))
	for name := range a.nodes {
		names = append(names, name)
	}
	slices.SortFunc(names, dnsname.Name.Compare)
	return names
}
