package handover

import (
	"fmt"
	"slices"
	"time"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/finding"
)

// What TTLs are lowered to while a domain moves, in seconds: of the apex NS set of the old zone, and of the answer that a name does not exist in the new one, so that a
// record that was forgotten can be added soon.
const (
	LowNS       = 300
	LowNegative = 60
)

// ComfortNS is the code of a comfort gate: passed early it loses no answer, and the time in which both sides are asked is longer.
const ComfortNS = "ns-ttl-not-run-down"

// Comforts returns the comfort gates. A user passes one without a reason.
func Comforts() []string { return []string{ComfortNS} }

// runDown returns by when no cache holds the apex NS set of the old zone under its former, larger TTL, and what waiting for that saves; zero where nothing is to be waited for.
func runDown(c Course, s Seen) (until time.Time, saved time.Duration) {
	if !c.Lower || !c.OldTells || !s.Lowered || slices.Contains(c.Override, ComfortNS) {
		return until, 0
	}
	for _, a := range evidence.ServersOf(s.Sweep, c.Old) {
		if a.Answer == evidence.Positive && a.NSTTL > LowNS { // not everywhere yet
			return until, 0
		}
	}
	for _, v := range s.History.Current.C {
		if gone := v.At.Add(time.Duration(v.TTL) * time.Second); v.TTL > LowNS && gone.After(s.Sweep.Ended) {
			if gone.After(until) {
				until = gone
			}
			saved = max(saved, time.Duration(v.TTL-LowNS)*time.Second)
		}
	}
	return until, saved
}

// comfort adds the wait for lowered TTLs to a decision that is ready otherwise, and reports whether there is one.
func comfort(c Course, s Seen, d *Decision) bool {
	until, saved := runDown(c, s)
	if until.IsZero() {
		return false
	}
	d.Wait = append(d.Wait, Wait{For: "the old NS set has expired from caches under its former TTL", Until: until})
	d.Closed = append(d.Closed, finding.Finding{Code: ComfortNS, Severity: finding.Notice, Subject: dnsname.Short(c.Domain),
		Message: fmt.Sprintf("Waiting shortens the time in which caches ask either side by up to %s. No answer is lost without it.", saved),
		Remedy:  "Wait, or go on now: beacon handover next --pass " + ComfortNS + "."})
	return true
}

// NegativeOf returns the negative TTL that the nameservers of a set serve, in seconds; 0 where none was heard.
func NegativeOf(set []dnsname.Name, s evidence.Sweep) uint32 {
	for _, a := range evidence.ServersOf(s, set) {
		if a.Answer == evidence.Positive {
			return a.SOA.Negative
		}
	}
	return 0
}
