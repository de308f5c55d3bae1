package handover

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"beacon/core/dnsname"
	"beacon/core/evidence"
	"beacon/core/handover/compare"
	"beacon/core/wording"
)

// Grounds returns on what evidence an act may be done, gate by gate, in words for a report. compared is how many names and types both sides were asked for.
func Grounds(do Do, c Course, marks []Mark, s Seen, compared int) (list []string) {
	add := func(format string, args ...any) { list = append(list, fmt.Sprintf(format, args...)) }
	add("Looked at %s: %s.", utc(s.Sweep.Ended), parentsText(s.Sweep))
	switch do {
	case DoRemoveDS:
		add("The old zone stays signed until no cache holds the DS, nor keys that it made good.")
	case DoDelegate:
		add("%s.", serversText(c.New, s.Sweep))
		add("%s.", comparedText(s, c, compared))
		add("%s.", dsText(s))
		add("No nameserver of either side asks the parent for a DS or for copies (CDS, CDNSKEY, CSYNC).")
		add("%s.", registrationText(s))
	case DoAddDS:
		if m, ok := last(marks, MarkSigned); ok {
			add("Every new nameserver serves the zone signed with the same keys, since %s.", utc(m.At))
		}
		add("%s, and the largest TTL of either zone (%s) and the margin (%s) have passed since.", boundText(s, marks), time.Duration(s.LargestTTL)*time.Second, s.Margin)
	case DoRetire:
		add("%s; the time that the old zone stays (%s) has passed since.", boundText(s, marks), c.Grace)
		add("%s.", dsText(s))
	}
	for _, code := range c.Override {
		add("Passed by a user: %s.", code)
	}
	return list
}

func utc(t time.Time) string { return t.UTC().Format(time.DateTime) + " UTC" }

func parentsText(s evidence.Sweep) string {
	heard := 0
	for _, p := range s.Parents {
		if p.Answer != evidence.Silent && p.Answer != evidence.Lame {
			heard++
		}
	}
	served, complete := servedBy(s)
	text := fmt.Sprintf("%d of %s of the parent answer", heard, wording.Counted(len(s.Parents), "server"))
	switch {
	case complete && len(served) > 0:
		text += ", all with " + dnsname.ShortList(served)
	case complete:
		text += ", all without a delegation"
	}
	return text
}

// serversText says how the nameservers of a set answer.
func serversText(set []dnsname.Name, s evidence.Sweep) string {
	good, all, serials := 0, 0, []string{}
	for _, a := range evidence.ServersOf(s, set) {
		all++
		if a.Answer == evidence.Positive && a.NoTCP == "" && !a.NoUDP {
			good++
			serials = append(serials, fmt.Sprint(a.SOA.Serial))
		}
	}
	slices.Sort(serials)
	serials = slices.Compact(serials)
	return fmt.Sprintf("%d of %d addresses of the new nameservers answer with authority, over UDP and TCP, serial %s", good, all, strings.Join(serials, " and "))
}

func comparedText(s Seen, c Course, compared int) string {
	text := fmt.Sprintf("Both sides were asked for %s", wording.Counted(compared, "record set"))
	open := compare.Open(s.Differences)
	switch {
	case compared == 0:
		return "The old side answers nothing, or does not exist: there is nothing to compare"
	case len(open) == 0 && len(s.Differences) > 0:
		return text + ", and differ in TTLs only"
	case len(open) == 0:
		return text + ", and answer the same"
	case c.Agreed == compare.Digest(s.Differences):
		return text + fmt.Sprintf(", and differ in %s, as a user agreed (%s)", wording.Counted(len(open), "answer"), c.Agreed)
	}
	return text + fmt.Sprintf(", and differ in %s", wording.Counted(len(open), "answer"))
}

func dsText(s Seen) string {
	state := s.History.DS
	for _, p := range s.Sweep.Parents {
		if len(p.DS.DS()) > 0 {
			return "The parents serve a DS"
		}
	}
	if state.Text == "" && !state.Changed.IsZero() {
		return fmt.Sprintf("No parent has a DS, since %s; it was held for %s at most, and the keys behind it", utc(state.Changed), time.Duration(state.Held)*time.Second)
	}
	return "No parent has a DS"
}

func registrationText(s Seen) string {
	who := s.Registration.Account
	if who == "" {
		who = "the registrar"
	}
	status := "no status that is in the way"
	if len(s.Registration.Status) > 0 {
		status = "status " + strings.Join(s.Registration.Status, ", ")
	}
	return fmt.Sprintf("The registration at %s has %s", who, status)
}

func boundText(s Seen, marks []Mark) string {
	if m, ok := last(marks, MarkSwitched); ok && !m.Until.IsZero() {
		return fmt.Sprintf("No cache asks the old nameservers after %s, since every parent serves the new ones from %s on", utc(m.Until), utc(m.At))
	}
	return "No cache asks the old nameservers"
}
