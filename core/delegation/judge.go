package delegation

import (
	"fmt"
	"time"

	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/record"
)

// Judge turns one sweep into a report. The history must already have taken the sweep in (Advance).
func Judge(plan Plan, h History, s evidence.Sweep) Report {
	j := judge{plan: plan, h: h, whole: s, now: s.Ended, short: dnsname.Short(plan.Domain)}
	j.s, j.blind = s.Sighted()
	j.report = Report{Domain: plan.Domain, CheckedAt: s.Ended, Wanted: plan.Wanted, Registrar: plan.Registrar, DNSSEC: dnssec.Indeterminate,
		Moments: []Moment{}, Findings: []finding.Finding{}, Parents: []Source{}, Servers: []Source{}, Resolvers: []View{}}
	if h.Former != nil {
		j.report.Old = h.Former.Set
	}
	j.fillSources()
	j.fillDS()
	if j.failed() {
		for _, r := range j.s.Resolvers {
			j.report.Resolvers = append(j.report.Resolvers, j.view(r))
		}
		j.report.Verdict = j.verdict(false)
		return j.report
	}
	if !h.Since.IsZero() {
		j.report.Moments = append(j.report.Moments, h.moments(plan.Domain.String())...)
	}
	j.report.SettlesBy = latest(j.report.Moments)
	j.judgeRegistrar()
	j.judgeRegistration()
	delegated := j.judgeParents()
	if delegated {
		j.judgeGlue()
		j.judgeServers()
		j.judgeOldServers()
		j.judgeZone()
		j.judgeSignatures()
		j.judgeResolvers()
		j.judgePlaces()
		j.judgeSites()
	}
	j.estimate()
	finding.Sort(j.report.Findings)
	j.report.Verdict = j.verdict(delegated)
	return j.report
}

// fillDS notes the DS set that fits the keys of the zone.
func (j *judge) fillDS() {
	for _, a := range j.s.Servers {
		ds, _ := dnssec.DSOf(a.Keys, j.plan.Domain.String(), j.now)
		for _, d := range ds {
			j.report.DS = append(j.report.DS, record.Data(d))
		}
		if len(ds) > 0 {
			return
		}
	}
}

// estimate says by when the rest will likely be done, as long as somebody who was asked is still behind.
func (j *judge) estimate() {
	for _, v := range j.report.Resolvers {
		if v.Follow == nil || v.Follow.FirstNew != nil || v.Follow.Predicted == nil {
			continue
		}
		if j.report.Likely == nil || v.Follow.Predicted.After(*j.report.Likely) {
			likely := *v.Follow.Predicted
			j.report.Likely = &likely
		}
	}
}

type judge struct {
	plan   Plan
	h      History
	s      evidence.Sweep // what could be seen
	whole  evidence.Sweep
	blind  bool // to IPv6
	now    time.Time
	short  string // the domain's name for reading
	report Report
	// What the findings leave open: a change seen without a time, a parent that could not be asked.
	waiting  bool
	unmoved  bool // the parents agree on a set that shares nothing with the desired one, and no change has begun
	deaf     bool
	brokenUp bool           // the zone above does not work
	set      []dnsname.Name // nameservers that the parents give, all of them together
	agreed   bool           // all parents that answered give the same
}

// find adds a finding; seen is what it rests on.
func (j *judge) find(code string, severity finding.Severity, subject, message, remedy string, seen ...string) {
	j.report.Findings = append(j.report.Findings, finding.Finding{Code: code, Severity: severity, Subject: subject,
		Message: message, Remedy: remedy, Seen: seen})
}

// dated returns the finding that was added last its moment.
func (j *judge) dated(by time.Time) { j.report.Findings[len(j.report.Findings)-1].By = &by }

// verdict: wrong beats settling beats settled; where a parent stayed silent and nothing was established before, it
// is not known.
func (j *judge) verdict(delegated bool) Verdict {
	switch {
	case j.brokenUp:
		return NeedsAction
	case !delegated && j.deaf:
		return Unknown
	case !delegated:
		return Undelegated
	case finding.Worst(j.report.Findings) == finding.Error:
		return NeedsAction
	case delegated && j.blind && len(j.inForce()) == 0:
		return Unknown
	case j.unmoved:
		return ReadyToMove
	case j.waiting:
		return Settling
	case j.deaf && j.h.Since.IsZero():
		return Unknown
	case j.report.SettlesBy != nil && j.now.Before(*j.report.SettlesBy):
		return Settling
	}
	return Settled
}

// failed handles a sweep in which no parent said anything about the domain: either the zone above is broken, and the domain with
// it, or the check is.
func (j *judge) failed() bool {
	silent, lame := 0, 0
	for _, p := range j.s.Parents {
		switch p.Answer {
		case evidence.Silent:
			silent++
		case evidence.Lame:
			lame++
		}
	}
	if j.s.Failure == "" && silent+lame < len(j.s.Parents) {
		return false
	}
	var seen []string
	for _, p := range j.s.Parents {
		seen = append(seen, fmt.Sprintf("%s: %s", p.Server, p.Problem))
	}
	switch {
	case !j.s.Broken.IsZero():
		j.brokenAbove(j.s.Broken, j.s.Failure)
	case j.s.Failure != "":
		j.deaf = true
		j.find("check-failed", finding.Warning, j.short,
			fmt.Sprintf("The check could not be made: %s. This says nothing about the domain.", j.s.Failure),
			"Look at this machine's network and at the root hints, then check again.")
	case silent == 0 && lame > 0:
		j.brokenAbove(j.s.Zone, "none of its nameservers answers for it", seen...)
	default:
		j.deaf = true
		j.find("check-failed", finding.Warning, j.short,
			"None of the parent's nameservers could be asked. This says nothing about the domain.",
			"Look at this machine's network, then check again.", seen...)
	}
	return true
}

// brokenAbove says that nothing below a zone above can be found.
func (j *judge) brokenAbove(zone dnsname.Name, why string, seen ...string) {
	j.brokenUp = true
	j.find("zone-above-broken", finding.Error, inWords(zone),
		fmt.Sprintf("The domain does not resolve, for a zone above it, %s, is broken: %s.", inWords(zone), why),
		"Fix that zone first, or tell its operator: beacon check "+inWords(zone)+". Nothing at the domain itself helps.", seen...)
}

func (j *judge) fillSources() {
	j.report.Parents, j.report.Servers = sources(j.whole.Parents, j.whole.Servers)
}

func sources(parents []evidence.ParentAnswer, servers []evidence.ServerAnswer) (above, own []Source) {
	above, own = make([]Source, 0, len(parents)), make([]Source, 0, len(servers))
	for _, p := range parents {
		above = append(above, Source{Server: p.Server, Nameservers: p.NS, TTL: p.TTL, Problem: p.Problem, Signed: len(p.DS.DS()) > 0})
	}
	for _, a := range servers {
		src := Source{Server: a.Server, Nameservers: a.NS, TTL: a.NSTTL, Problem: a.Problem, Took: float64(a.Took.Microseconds()) / 1000, Signed: len(a.Keys.Keys()) > 0}
		if a.Answer == evidence.Positive {
			serial := a.SOA.Serial
			src.Serial = &serial
		}
		own = append(own, src)
	}
	return above, own
}

// inForce returns the answers of the servers that the parents name.
func (j *judge) inForce() []evidence.ServerAnswer { return evidence.ServersOf(j.s, j.set) }

// knowing leaves those that answer for the zone.
func knowing(list []evidence.ServerAnswer) []evidence.ServerAnswer {
	return evidence.Those(list, func(a *evidence.ServerAnswer) bool { return a.Answer == evidence.Positive })
}
