package handover

import (
	"fmt"
	"slices"
	"time"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/handover/compare"
)

// Course is a handover as it was agreed on.
type Course struct {
	Domain   dnsname.Name   `json:"domain"`
	Old      []dnsname.Name `json:"old"` // the set that is left; empty for a first delegation
	New      []dnsname.Name `json:"new"`
	OldHere  bool           `json:"old_here"`  // the old zone is at an account here, which can remove it
	OldTells bool           `json:"old_tells"` // and its apex NS set can be written from here
	KeepOld  bool           `json:"keep_old"`  // the old zone is not removed
	Sign     bool           `json:"sign"`      // the new zone is signed, and gets a DS at the end
	Grace    time.Duration  `json:"grace"`     // between D and the removal of the old zone
	Agreed   string         `json:"agreed"`    // digest of the differences that the user agreed to
	Override []string       `json:"override"`  // safety gates that are passed by name
	Window   string         `json:"window"`    // in which something outside may be changed, as ParseWindow reads it; empty for always
	// Gap is whether the new side accepts the domain only once it is delegated there: resolvers whose copy has expired get no answer until then. A user said yes to that.
	Gap      bool   `json:"gap"`
	Lower    bool   `json:"lower"`    // TTLs are lowered before the move, and restored at its end
	Urgent   bool   `json:"urgent"`   // no window and no freeze holds it up: it goes back
	Timezone string `json:"timezone"` // of the window, such as Europe/Berlin; empty for UTC
}

// Seen is the evidence of one check.
type Seen struct {
	Sweep        evidence.Sweep
	History      delegation.History // with the sweep in it
	Registration delegation.Registration
	Behind       []string             // accounts at which the zone is not as desired
	Differences  []compare.Difference // between both sides, as of the sweep
	Margin       time.Duration        // A
	LargestTTL   uint32               // of any set of either zone, DNSKEY and negative TTLs included, seconds
	OldPlaced    bool                 // the old zone is still at its account
	Lowered      bool                 // TTLs are lowered at the placements, or will be with the next sync
	NoIPv6       bool
}

// Mark is something that was established once, and that later evidence cannot show any more. Marks are only appended; one may be withdrawn by a later one.
type Mark struct {
	Kind      MarkKind  `json:"kind"`
	At        time.Time `json:"at"` // simulated time
	Until     time.Time `json:"until,omitzero"`
	Withdrawn bool      `json:"withdrawn,omitempty"`
}

// Left reports whether no cache asks the old nameservers any more.
func (p Phase) Left() bool { return p == Securing || p == Closing || p == Done }

// MarkKind is what was established.
type MarkKind string

// The marks.
const (
	MarkSwitched MarkKind = "switched" // At is T; Until is D, as far as it is known
	MarkSigned   MarkKind = "signed"   // At is since when every new server serves the zone signed with the same keys
	MarkLeft     MarkKind = "left"     // At is since when the old nameservers name the new ones, or answer for the zone no more; Until is by when no cache keeps refreshing there
)

// last returns the last mark of a kind that was not withdrawn.
func last(marks []Mark, kind MarkKind) (m Mark, ok bool) {
	for _, each := range marks {
		if each.Kind == kind {
			m, ok = each, !each.Withdrawn
		}
	}
	return m, ok
}

// Phase is how far a handover is.
type Phase string

// The phases, in their order.
const (
	Preparing Phase = "preparing" // the new side is made ready
	Insecure  Phase = "insecure"  // the DS has to go, and its time to pass
	Ready     Phase = "ready"     // the registrar may be asked
	Switching Phase = "switching" // the registrar was asked, and not every parent serves the new set
	Settling  Phase = "settling"  // caches may hold the old set
	Securing  Phase = "securing"  // a DS of the new zone is to be published
	Closing   Phase = "closing"   // the old zone is to be removed
	Done      Phase = "done"
)

// Do is an act that a handover has done next.
type Do string

// The acts.
const (
	DoSync     Do = "sync"         // write the desired records to the sides that are behind
	DoRemoveDS Do = "remove-ds"    // take the DS out at the registrar
	DoDelegate Do = "delegate"     // change the nameservers at the registrar
	DoTellOld  Do = "tell-old"     // write the new apex NS set into the old zone, so that caches that refresh there come over
	DoLower    Do = "lower-ttls"   // of both sides, while the domain moves
	DoRestore  Do = "restore-ttls" // to what they were
	DoAddDS    Do = "add-ds"       // publish the DS of the new zone
	DoRetire   Do = "retire"       // remove the old zone
)

// Wait is what a handover waits for.
type Wait struct {
	For   string    `json:"for"`            // what is waited for, behind "until"
	Until time.Time `json:"until,omitzero"` // zero where it is an event, and no time
}

// Decision is what follows from the evidence.
type Decision struct {
	Phase  Phase             `json:"phase"`
	Do     []Do              `json:"do"`
	Wait   []Wait            `json:"wait"`
	Closed []finding.Finding `json:"closed"` // gates that are closed, in the phase in which they matter
	Marks  []Mark            `json:"marks"`  // that are to be kept
}

// limits is what a test can switch off, to see that something notices. The zero value has everything on.
type limits struct{ off map[string]bool }

// Decide returns what a handover does next. It believes nothing that was stored but marks: the rest follows from the evidence of a check.
func Decide(c Course, marks []Mark, s Seen) Decision { return decide(c, marks, s, limits{}) }

func (l limits) on(name string) bool { return !l.off[name] }

func decide(c Course, marks []Mark, s Seen, l limits) (d Decision) {
	now := s.Sweep.Ended
	served, complete := servedBy(s.Sweep)
	switched := complete && delegation.SameSet(served, c.New)
	mark, was := last(marks, MarkSwitched)
	if was && l.on("reset of T") && elsewhere(s.Sweep, c.New) { // a regression: caches may have fetched the old set again
		d.Marks = append(d.Marks, Mark{Kind: MarkSwitched, At: now, Withdrawn: true})
		was = false
	}
	if !switched && !was {
		return before(c, s, l, d, complete)
	}
	bound, known := settledBy(c, s, mark, was, l)
	if next := (Mark{Kind: MarkSwitched, At: s.History.Since, Until: bound}); switched && known && (!was || !mark.At.Equal(next.At) || !mark.Until.Equal(next.Until)) {
		if next.At.IsZero() {
			next.At = now
		}
		d.Marks = append(d.Marks, next)
	}
	return after(c, marks, s, l, d, bound, known, complete && switched)
}

// GapGates returns the gates that a new side leaves closed that accepts a domain only once it is delegated there.
func GapGates() []string {
	return []string{GateNotReady, GateUnheard, GateNoTCP, GateAnswers, GateNotAssigned}
}

// anyAnswers reports whether a nameserver of a set answers for the zone.
func anyAnswers(set []dnsname.Name, s evidence.Sweep) bool {
	return slices.ContainsFunc(evidence.ServersOf(s, set), func(a evidence.ServerAnswer) bool { return a.Answer == evidence.Positive })
}

// GapText says how long nobody may get an answer, where the new side accepts the domain only once it is delegated there, and by when to turn back.
func GapText(c Course, s Seen) string {
	held := s.History.Current.P.At(s.Sweep.Ended)
	text := "Resolvers whose copy has expired get no answer from the moment that the parent serves the new nameservers until the new provider accepts the domain."
	if held > 0 {
		text += fmt.Sprintf(" Caches that hold the old delegation go on for up to %s: after that time nobody gets an answer. Turn back before (beacon handover back): %s after the change at the latest.", time.Duration(held)*time.Second, time.Duration(held/2)*time.Second)
	}
	return text + " Prepare the records at the new provider, as far as it lets you, and lower the TTLs of what it will change: then accept the domain there as soon as it is possible."
}

// servedBy returns the set that every parent server serves; complete is false where one was not heard, or they differ.
func servedBy(s evidence.Sweep) (set []dnsname.Name, complete bool) {
	if s.Failure != "" || len(s.Parents) == 0 {
		return nil, false
	}
	for i, p := range s.Parents {
		if p.Answer == evidence.Silent || p.Answer == evidence.Lame || i > 0 && !delegation.SameSet(p.NS, s.Parents[0].NS) {
			return nil, false
		}
	}
	return s.Parents[0].NS, true
}

// elsewhere reports whether a parent server that was heard serves another set.
func elsewhere(s evidence.Sweep, set []dnsname.Name) bool {
	return slices.ContainsFunc(s.Parents, func(p evidence.ParentAnswer) bool {
		return p.Answer != evidence.Silent && p.Answer != evidence.Lame && !delegation.SameSet(p.NS, set)
	})
}

// before decides until every parent serves the new set.
func before(c Course, s Seen, l limits, d Decision, complete bool) Decision {
	asked := delegation.SameSet(s.Registration.Active, c.New) && len(s.Registration.Active) > 0
	if asked {
		d.Phase = Switching
		d.Wait = append(d.Wait, Wait{For: "every parent server serves the new nameservers"})
		return d
	}
	d.Phase = Preparing
	if c.Lower && !s.Lowered && (s.History.Current.Known || !c.OldTells) { // not before the TTL that caches hold is known; both sides are behind then
		d.Do = append(d.Do, DoLower)
		d.Wait = append(d.Wait, Wait{For: "TTLs are lowered"})
		return d
	}
	if len(s.Behind) > 0 {
		d.Do = append(d.Do, DoSync)
		if l.on("sync before the switch") {
			d.Wait = append(d.Wait, Wait{For: "both sides hold the desired records"})
			return d
		}
	}
	if !complete {
		d.Wait = append(d.Wait, Wait{For: "every parent server answers"})
		if l.on("every parent heard") {
			return d
		}
	}
	margin := s.Margin
	if !l.on("margin") {
		margin = 0
	}
	keys := s.History.Current.K.At(s.Sweep.Ended)
	if !l.on("K after the DS") {
		keys = 1
	}
	state := s.History.DS
	if !l.on("TTL of the DS") {
		state.Held = 0
	}
	found := Gates(Facts{Domain: c.Domain, Target: c.New, Old: c.Old, Sweep: s.Sweep, NoIPv6: s.NoIPv6, Registration: s.Registration, DS: state, KeyTTL: keys,
		Margin: margin, Differences: s.Differences, Agreed: c.Agreed})
	closed := Closed(found, c.Override)
	if c.Gap {
		closed = slices.DeleteFunc(closed, func(f finding.Finding) bool { return slices.Contains(GapGates(), f.Code) })
	}
	closed = slices.DeleteFunc(closed, func(f finding.Finding) bool { return !l.on(f.Code) })
	d.Closed = closed
	if slices.ContainsFunc(closed, func(f finding.Finding) bool { return f.Code == GateDSPending }) { // what is removed before it comes, comes all the same
		d.Phase = Insecure
		d.Wait = append(d.Wait, Wait{For: "every parent server serves the DS that the registrar has"})
		return d
	}
	scanned := slices.ContainsFunc(closed, func(f finding.Finding) bool { return f.Code == GateCDS }) // it would come back
	if !scanned && slices.ContainsFunc(closed, func(f finding.Finding) bool { return f.Code == GateDS }) {
		d.Phase = Insecure
		d.Do = append(d.Do, DoRemoveDS)
		return d
	}
	if len(closed) > 0 {
		if slices.ContainsFunc(closed, func(f finding.Finding) bool { return f.Code == GateDSWait }) {
			d.Phase = Insecure
			_, until := insecureFrom(state, keys, margin)
			d.Wait = append(d.Wait, Wait{For: "no cache holds the DS, nor keys that it made good", Until: until})
		}
		return d
	}
	if comfort(c, s, &d) {
		return d
	}
	d.Phase = Ready
	d.Do = append(d.Do, DoDelegate)
	return d
}

// settledBy returns D: by when no cache asks the old nameservers because of an old delegation. known is false where that is not known.
func settledBy(c Course, s Seen, mark Mark, was bool, l limits) (by time.Time, known bool) {
	h := s.History
	if len(l.off) > 0 {
		h = l.forgetful(h)
	}
	switch {
	case !h.Bound().IsZero() && delegation.SameSet(h.Current.Set, c.New):
		return h.Bound(), true
	case was && !mark.Until.IsZero(): // what settled long ago is forgotten there
		return mark.Until, true
	}
	return by, false
}

// forgetful returns a history without what is switched off in it.
func (l limits) forgetful(h delegation.History) delegation.History {
	if h.Absent != nil && !l.on("absence") {
		h.Absent = new(uint32)
	}
	if h.Former == nil {
		return h
	}
	f := *h.Former
	if !l.on("P") {
		f.P = nil
	}
	if !l.on("C after P") {
		f.C = nil
	}
	if !l.on("Tc") {
		f.Told = h.Since
	}
	h.Former = &f
	return h
}

// after decides from the moment on in which every parent serves the new set.
func after(c Course, marks []Mark, s Seen, l limits, d Decision, bound time.Time, known, complete bool) Decision {
	now := s.Sweep.Ended
	d.Phase = Settling
	if c.OldTells && s.OldPlaced && !OldTells(c, s) && len(c.Old) > 0 {
		d.Do = append(d.Do, DoTellOld)
	}
	if len(s.Behind) > 0 {
		d.Do = append(d.Do, DoSync)
	}
	clings, until := refreshing(c, marks, s, l, &d)
	switch {
	case !complete && l.on("complete after the switch"):
		d.Wait = append(d.Wait, Wait{For: "every parent server serves the new nameservers again"})
		return d
	case !known:
		d.Wait = append(d.Wait, Wait{For: "it is known how long caches hold the old nameservers"})
		return d
	}
	if !anyAnswers(c.New, s.Sweep) && l.on("the new side answers") {
		d.Wait = append(d.Wait, Wait{For: "a new nameserver answers for the zone"})
		d.Closed = append(d.Closed, finding.Finding{Code: GateNotReady, Severity: finding.Error, Subject: dnsname.Short(c.Domain), Message: "The domain is delegated to the new nameservers, and none of them answers for it: resolvers whose copy has expired get no answer.",
			Remedy: "Have the new provider accept the domain, or go back: beacon handover back."})
		return d
	}
	margin := s.Margin
	if !l.on("margin") {
		margin = 0
	}
	if settled := bound.Add(margin); now.Before(settled) && l.on("D") {
		d.Wait = append(d.Wait, Wait{For: "no cache asks the old nameservers", Until: settled})
		d.Closed = append(d.Closed, earlyDS(c, s.Sweep)...)
		return d
	}
	stays := c.KeepOld || !s.OldPlaced || !c.OldHere || len(c.Old) == 0
	secured := !c.Sign || len(s.History.DS.Text) > 0
	if !secured {
		d = secure(c, marks, s, l, d, bound, until, margin, clings, stays)
	}
	switch {
	case !stays:
		d.Phase = Closing
		goes := bound
		if !clings && until.After(goes) {
			goes = until
		}
		d = retire(c, s, l, d, goes.Add(margin+c.Grace))
	case secured:
		d.Phase, d.Do = Done, nil
	}
	if c.Lower && s.Lowered && d.Phase != Securing { // what was forgotten has shown itself by now
		if d.Do = append(d.Do, DoRestore); d.Phase == Done {
			d.Phase = Closing
		}
	}
	return d
}

// retire decides until the old zone is removed: not before D and the grace, nor while a DS of its keys is held.
func retire(c Course, s Seen, l limits, d Decision, goes time.Time) Decision {
	now := s.Sweep.Ended
	if state := s.History.DS; state.Text == "" && !state.Changed.IsZero() {
		if held := state.Changed.Add(time.Duration(state.Held) * time.Second); held.After(goes) {
			goes = held
		}
	}
	if now.Before(goes) && l.on("D") {
		d.Wait = append(d.Wait, Wait{For: "the old zone may go", Until: goes})
		return d
	}
	d.Do = append(d.Do, DoRetire)
	return d
}

// refreshing returns by when no cache keeps refreshing the old NS set at the old nameservers. clings is true while they name themselves: then some may do so for ever.
func refreshing(c Course, marks []Mark, s Seen, l limits, d *Decision) (clings bool, until time.Time) {
	if len(c.Old) == 0 || !l.on("what keeps refreshing") {
		return false, until
	}
	left, known := last(marks, MarkLeft)
	servers := evidence.ServersOf(s.Sweep, c.Old)
	names := slices.ContainsFunc(servers, func(a evidence.ServerAnswer) bool {
		return a.Answer == evidence.Positive && !delegation.SameSet(a.NS, c.New)
	})
	answers := slices.ContainsFunc(servers, func(a evidence.ServerAnswer) bool { return a.Answer == evidence.Positive })
	switch {
	case names && known:
		d.Marks = append(d.Marks, Mark{Kind: MarkLeft, At: s.Sweep.Ended, Withdrawn: true})
		return true, until
	case names:
		return true, until
	case known:
		return false, left.Until
	case len(servers) == 0 || !answers && c.OldHere && s.OldPlaced: // that is no end
		return true, until
	}
	held := time.Duration(s.LargestTTL) * time.Second
	if f := s.History.Former; f != nil && delegation.SameSet(s.History.Current.Set, c.New) {
		held = time.Duration(f.C.At(s.Sweep.Ended)) * time.Second
	}
	left = Mark{Kind: MarkLeft, At: s.Sweep.Ended, Until: s.Sweep.Ended.Add(held)}
	d.Marks = append(d.Marks, left)
	return false, left.Until
}

// OldTells reports whether every old nameserver that answers serves the new apex NS set.
func OldTells(c Course, s Seen) bool {
	for _, a := range evidence.ServersOf(s.Sweep, c.Old) {
		if a.Answer == evidence.Positive && !delegation.SameSet(a.NS, c.New) {
			return false
		}
	}
	return true
}

// secure decides until the DS of the new zone is published. Unsigned answers that were fetched just before D live on behind validators for as long as the
// largest TTL; where the old nameservers never tell of the new ones, caches that keep refreshing there are waited for by C more, after the old zone is gone.
func secure(c Course, marks []Mark, s Seen, l limits, d Decision, bound, until time.Time, margin time.Duration, clings, stays bool) Decision {
	now := s.Sweep.Ended
	d.Phase = Securing
	switch {
	case clings && !stays:
		d.Wait = append(d.Wait, Wait{For: "the old zone is gone, at which resolvers may keep asking"})
		return d
	case clings && !slices.Contains(c.Override, GateOldNames):
		d.Closed = append(d.Closed, oldNames(c))
		return d
	}
	signed, ok := last(marks, MarkSigned)
	serves, differs := signedAlike(c, s)
	serves = serves || !l.on("signed at every new server")
	switch {
	case differs && !serves && ok:
		d.Marks = append(d.Marks, Mark{Kind: MarkSigned, At: now, Withdrawn: true})
		ok = false
	case serves && !ok:
		signed, ok = Mark{Kind: MarkSigned, At: now}, true
		d.Marks = append(d.Marks, signed)
	}
	if !ok {
		d.Wait = append(d.Wait, Wait{For: "every new nameserver serves the zone signed with the same keys"})
		return d
	}
	from := bound
	if until.After(from) {
		from = until
	}
	if signed.At.After(from) && l.on("since when it is signed") {
		from = signed.At
	}
	largest := time.Duration(s.LargestTTL) * time.Second
	if !l.on("largest TTL before the DS") {
		largest = 0
	}
	if until := from.Add(largest + margin); now.Before(until) {
		d.Wait = append(d.Wait, Wait{For: "no cache holds an unsigned answer", Until: until})
		return d
	}
	d.Do = append(d.Do, DoAddDS)
	return d
}

// signedAlike reports whether every address of the new nameservers serves the same keys, and whether one that answered serves none, or others. Where one was
// not heard it is neither.
func signedAlike(c Course, s Seen) (alike, differs bool) {
	servers := evidence.ServersOf(s.Sweep, c.New)
	alike = len(servers) > 0
	var want []string
	for _, a := range servers {
		if a.Answer != evidence.Positive {
			alike = false
			continue
		}
		keys := keyTexts(a.Keys)
		if want == nil {
			want = keys
		}
		if len(keys) == 0 || !slices.Equal(keys, want) {
			return false, true
		}
	}
	return alike, false
}

// String returns a decision in one line.
func (d Decision) String() string {
	text := string(d.Phase)
	for _, do := range d.Do {
		text += ", " + string(do)
	}
	for _, w := range d.Wait {
		text += fmt.Sprintf(", waits: %s", w.For)
	}
	for _, f := range d.Closed {
		text += ", closed: " + f.Code
	}
	return text
}
