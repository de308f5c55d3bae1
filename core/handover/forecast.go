package handover

import (
	"slices"
	"time"

	"github.com/miekg/dns"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/evidence"
	"beacon/core/finding"
)

// Station is a moment of a forecast at which something is done, or at which a phase begins.
type Station struct {
	At     time.Time         `json:"at"` // simulated time
	Phase  Phase             `json:"phase"`
	Do     []Do              `json:"do"`
	Wait   []Wait            `json:"wait"`
	Closed []finding.Finding `json:"closed,omitempty"` // gates that nothing in the handover itself opens
}

// mostStations bounds a forecast. A handover has about ten.
const mostStations = 60

// Forecast returns what a handover would do and when, if every act is done at once, lag after it every parent server follows, nothing else changes, and acts wait for what a calendar says. It ends with
// the phase Done, or with gates that a user has to open, as far as it can be foreseen. The evidence must be of one check with the target among the servers asked.
func Forecast(c Course, s Seen, lag time.Duration, k Calendar) (list []Station) {
	m := model{course: c, seen: s, lag: max(lag, time.Second)}
	m.seen.Sweep = copied(s.Sweep)
	for range mostStations {
		d := Decide(m.course, m.marks, m.seen)
		m.marks = append(m.marks, d.Marks...)
		now := m.seen.Sweep.Ended
		d.Do = slices.DeleteFunc(slices.Clone(d.Do), m.did)
		held := []Wait(nil)
		d.Do, held = k.Hold(d.Do, now)
		d.Wait = append(d.Wait, held...)
		if n := len(list); n == 0 || d.Phase != list[n-1].Phase || len(d.Do) > 0 || until(d.Wait).After(until(list[n-1].Wait)) {
			list = append(list, Station{At: now, Phase: d.Phase, Do: append([]Do{}, d.Do...), Wait: append([]Wait{}, d.Wait...)})
		}
		if d.Phase == Done {
			return list
		}
		next, going := m.next(d)
		if !going {
			list[len(list)-1].Closed = d.Closed
			return list
		}
		for _, do := range d.Do {
			m.act(do)
		}
		m.check(next)
	}
	return list
}

// model is the world as a forecast takes it: what is done is there after the lag.
type model struct {
	course Course
	seen   Seen
	marks  []Mark
	lag    time.Duration
	done   []Do
	later  []func(*evidence.Sweep) // what the next check finds changed
}

// did reports whether an act was done already: what the old nameservers do not take is not asked again.
func (m *model) did(do Do) bool { return slices.Contains(m.done, do) }

// next returns when the next check is: at the end of the first wait, or once what is done has come to the parents. going is false where nothing would change any more.
func (m *model) next(d Decision) (at time.Time, going bool) {
	now := m.seen.Sweep.Ended
	if len(d.Do) > 0 {
		return now.Add(m.lag), true
	}
	at = until(d.Wait)
	return at, at.After(now)
}

// until returns when the first of some waits ends; zero where none is known to.
func until(list []Wait) (first time.Time) {
	for _, w := range list {
		if !w.Until.IsZero() && (first.IsZero() || w.Until.Before(first)) {
			first = w.Until
		}
	}
	return first
}

func (m *model) act(do Do) {
	m.done = append(m.done, do)
	parents := func(change func(*evidence.ParentAnswer)) {
		m.later = append(m.later, func(s *evidence.Sweep) {
			for i := range s.Parents {
				change(&s.Parents[i])
			}
		})
	}
	switch do {
	case DoSync: // a side that is behind accounts for what differs
		m.seen.Behind, m.seen.Differences = nil, nil
		m.later = append(m.later, m.ready)
	case DoLower:
		m.seen.Lowered = true
		if m.course.OldTells {
			m.servers(m.course.Old, func(a *evidence.ServerAnswer) { a.NSTTL = min(a.NSTTL, LowNS) })
		}
	case DoRestore:
		m.seen.Lowered, m.course.Lower = false, false
	case DoRemoveDS:
		m.seen.Registration.DS, m.seen.Registration.Keys = nil, nil
		parents(func(p *evidence.ParentAnswer) { p.DS = nil })
	case DoDelegate:
		m.seen.Registration.Active, m.seen.Registration.Saved = m.course.New, m.course.New
		parents(func(p *evidence.ParentAnswer) {
			if p.Answer != evidence.Silent && p.Answer != evidence.Lame {
				p.Answer, p.NS, p.AskedDS = evidence.Referral, m.course.New, true
			}
		})
	case DoTellOld:
		m.servers(m.course.Old, func(a *evidence.ServerAnswer) { a.NS = m.course.New })
	case DoAddDS:
		parents(func(p *evidence.ParentAnswer) { p.DS = dnssec.Records{foreseenDS(m.course.Domain, p.TTL)} })
	case DoRetire:
		m.seen.OldPlaced = false
		m.servers(m.course.Old, func(a *evidence.ServerAnswer) {
			*a = evidence.ServerAnswer{Server: a.Server, At: a.At, Answer: evidence.Silent}
		})
	}
}

// ready makes every new nameserver answer with the zone, where it does not yet.
func (m *model) ready(s *evidence.Sweep) {
	for i, a := range s.Servers {
		if !slices.Contains(m.course.New, a.Name) {
			continue
		}
		if a.Answer != evidence.Positive {
			s.Servers[i] = evidence.ServerAnswer{Server: a.Server, At: a.At, Answer: evidence.Positive, NS: m.course.New, NSTTL: 3600, SOA: evidence.SOA{Serial: 1, Negative: 300}}
		}
		if m.course.Sign && len(a.Keys) == 0 {
			s.Servers[i].Keys = dnssec.Records{foreseenKey(m.course.Domain)}
		}
	}
}

func (m *model) servers(set []dnsname.Name, change func(*evidence.ServerAnswer)) {
	m.later = append(m.later, func(s *evidence.Sweep) {
		for i := range s.Servers {
			if slices.Contains(set, s.Servers[i].Name) && s.Servers[i].Answer == evidence.Positive {
				change(&s.Servers[i])
			}
		}
	})
}

// check makes the check of a moment.
func (m *model) check(at time.Time) {
	s := copied(m.seen.Sweep)
	for _, change := range m.later {
		change(&s)
	}
	m.later = nil
	if m.course.Sign { // the new side signs from the beginning
		m.ready(&s)
	}
	s.Began, s.Ended = at, at
	for i := range s.Parents {
		s.Parents[i].At = at
	}
	m.seen.Sweep, m.seen.History = s, delegation.Advance(m.seen.History, s)
}

// copied returns a sweep whose lists can be changed, without what a forecast has no use for.
func copied(s evidence.Sweep) evidence.Sweep {
	s.Parents, s.Servers, s.Resolvers, s.Places = slices.Clone(s.Parents), slices.Clone(s.Servers), nil, nil
	return s
}

// foreseenDS and foreseenKey stand for those of the new zone, which nobody knows yet.
func foreseenDS(domain dnsname.Name, ttl uint32) dns.RR {
	return &dns.DS{Hdr: dns.RR_Header{Name: domain.String(), Rrtype: dns.TypeDS, Class: dns.ClassINET, Ttl: ttl}, KeyTag: 1, Algorithm: dns.ECDSAP256SHA256, DigestType: dns.SHA256, Digest: "00"}
}

func foreseenKey(domain dnsname.Name) dns.RR {
	return &dns.DNSKEY{Hdr: dns.RR_Header{Name: domain.String(), Rrtype: dns.TypeDNSKEY, Class: dns.ClassINET, Ttl: 3600}, Flags: 257, Protocol: 3, Algorithm: dns.ECDSAP256SHA256}
}
