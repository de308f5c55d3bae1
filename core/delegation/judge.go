package delegation

import (
	"fmt"
	"time"

	"beacon/core/dnsname"
	"beacon/core/finding"
)

// Judge turns one sweep into a report. The history must already have taken the sweep in (Advance).
func Judge(plan Plan, h History, s Sweep) Report {
	j := judge{plan: plan, h: h, s: s, now: s.Ended}
	j.report = Report{Domain: plan.Domain, CheckedAt: s.Ended, Wanted: plan.Wanted, Registrar: plan.Registrar,
		Moments: []Moment{}, Findings: []finding.Finding{}, Parents: []Source{}, Servers: []Source{}, Resolvers: []View{}}
	if h.Former != nil {
		j.report.Old = h.Former.Set
	}
	j.fillSources()
	if j.failed() {
		j.report.Verdict = Unknown
		return j.report
	}
	j.report.Moments = append(j.report.Moments, h.moments(plan.Domain.String())...)
	j.report.SettlesBy = latest(j.report.Moments)
	j.judgeRegistrar()
	delegated := j.judgeParents()
	if delegated {
		j.judgeServers()
		j.judgeOldServers()
		j.judgeResolvers()
	}
	j.estimate()
	finding.Sort(j.report.Findings)
	j.report.Verdict = j.verdict(delegated)
	return j.report
}

// estimate says by when the rest will likely be done, as long as somebody who was asked is still behind.
func (j *judge) estimate() {
	behind := false
	for _, v := range j.report.Resolvers {
		behind = behind || v.Sees == "old"
	}
	for _, m := range j.report.Moments {
		if behind && m.Likely.After(j.now) && (j.report.Likely == nil || m.Likely.After(*j.report.Likely)) {
			likely := m.Likely
			j.report.Likely = &likely
		}
	}
}

type judge struct {
	plan   Plan
	h      History
	s      Sweep
	now    time.Time
	report Report
	// What the findings leave open: a change seen without a time, a parent that could not be asked.
	waiting bool
	deaf    bool
	set     []dnsname.Name // nameservers that the parents give, all of them together
	agreed  bool           // all parents that answered give the same
}

func (j *judge) find(code string, severity finding.Severity, subject, message, remedy string) {
	j.report.Findings = append(j.report.Findings, finding.Finding{Code: code, Severity: severity, Subject: subject,
		Message: message, Remedy: remedy})
}

// verdict: wrong beats settling beats settled; where a parent stayed silent and nothing was established before, it
// could not be told.
func (j *judge) verdict(delegated bool) Verdict {
	switch {
	case !delegated && j.deaf:
		return Unknown
	case !delegated:
		return Undelegated
	case finding.Worst(j.report.Findings) == finding.Error:
		return Wrong
	case j.waiting:
		return Settling
	case j.deaf && j.h.Since.IsZero():
		return Unknown
	case j.report.SettlesBy != nil && j.now.Before(*j.report.SettlesBy):
		return Settling
	}
	return Settled
}

// failed handles a sweep that got no answer from any parent.
func (j *judge) failed() bool {
	if j.s.Failure != "" {
		j.find("check-failed", finding.Warning, j.plan.Domain.String(),
			fmt.Sprintf("The check could not be made: %s. This says nothing about the domain.", j.s.Failure),
			"Look at this machine's network and at the root hints in the settings, then check again.")
		return true
	}
	for _, p := range j.s.Parents {
		if p.Answer != Silent {
			return false
		}
	}
	j.find("check-failed", finding.Warning, j.plan.Domain.String(),
		"None of the parent's nameservers answered. This says nothing about the domain.",
		"Look at this machine's network, then check again.")
	return true
}

func (j *judge) fillSources() {
	for _, p := range j.s.Parents {
		j.report.Parents = append(j.report.Parents, Source{Server: p.Server, Nameservers: p.NS, TTL: p.TTL, Problem: p.Problem})
	}
	for _, a := range j.s.Servers {
		src := Source{Server: a.Server, Nameservers: a.NS, TTL: a.NSTTL, Problem: a.Problem}
		if a.Answer == Positive {
			serial := a.SOA.Serial
			src.Serial = &serial
		}
		j.report.Servers = append(j.report.Servers, src)
	}
}
