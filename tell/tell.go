// Package tell brings word of domains to people and programs: by e-mail (mail.go) and by webhook (hook.go). It makes one attempt for each
// call; when and how often is the caller's.
package tell

import (
	"fmt"
	"strings"
	"time"
	_ "time/tzdata" // quiet hours are in a place's time, wherever this runs

	"beacon/core/delegation"
	"beacon/core/finding"
)

// Word is what there is to tell: how a domain stands now, and stood when it was told last.
type Word struct {
	ID        string                `json:"id"` // the same for each attempt
	Domain    string                `json:"domain"`
	Verdict   delegation.Verdict    `json:"verdict"`
	Before    delegation.Verdict    `json:"before"` // empty where nothing was told before
	At        time.Time             `json:"at"`     // of the check, world time
	SettlesBy *time.Time            `json:"settles_by"`
	Deadlines []delegation.Deadline `json:"deadlines,omitempty"` // those that have come near since then
	Asked     string                `json:"asked,omitempty"`     // what a handover asks of a user
	Silent    []string              `json:"silent,omitempty"`    // dynamic hosts that have reported nothing for too long
	Findings  []finding.Finding     `json:"findings"`
	Test      bool                  `json:"test,omitempty"` // a user tests the channel; nothing has happened
}

// sentences explain each verdict to the reader.
var sentences = map[delegation.Verdict]string{
	delegation.Settled:     "Every cache that keeps to TTLs has the current answers.",
	delegation.Settling:    "A change is under way: some caches may still hold the old answers.",
	delegation.ReadyToMove: "What it has works. The desired nameservers wait for your first step.",
	delegation.NeedsAction: "Waiting will not fix this.",
	delegation.Undelegated: "The parent has no nameservers for it.",
	delegation.Unknown:     "The state of the domain is unknown.",
}

// Subject returns the notification in one line.
func (w Word) Subject() string {
	if w.Test {
		return "Agile Beacon: test notification"
	}
	subject := fmt.Sprintf("%s: %s", w.Domain, w.Verdict.Words())
	if w.Asked != "" {
		subject = fmt.Sprintf("%s: its handover waits for you", w.Domain)
	}
	if len(w.Silent) > 0 {
		subject += fmt.Sprintf("; %s is silent", w.Silent[0])
	}
	if len(w.Silent) > 1 {
		subject += fmt.Sprintf(" and %d more", len(w.Silent)-1)
	}
	for _, d := range w.Deadlines {
		subject += fmt.Sprintf("; %s, %s", d.Code, d.By.UTC().Format("2 January 2006"))
	}
	return subject
}

// Text returns the notification as plain text.
func (w Word) Text() string {
	var b strings.Builder
	if w.Test {
		return "A user tests this channel. Nothing has happened, and notifications about domains arrive here.\n"
	}
	if w.Asked != "" {
		fmt.Fprintf(&b, "The handover of %s waits for you: %s.\nSee it: beacon handover show %s\n\n", w.Domain, w.Asked, w.Domain)
	}
	for _, host := range w.Silent {
		fmt.Fprintf(&b, "%s has reported no address for too long. What its policy says for that was done.\nSee it: beacon host show %[1]s\n\n", host)
	}
	fmt.Fprintf(&b, "%s: %s. %s\n", w.Domain, w.Verdict.Words(), sentences[w.Verdict])
	if w.Before != "" && w.Before != w.Verdict {
		fmt.Fprintf(&b, "Before: %s.\n", w.Before.Words())
	}
	fmt.Fprintf(&b, "Checked on %s.\n", w.At.UTC().Format("2006-01-02 15:04 UTC"))
	if w.SettlesBy != nil && w.SettlesBy.After(w.At) {
		fmt.Fprintf(&b, "The old answers expire from every cache by %s.\n", w.SettlesBy.UTC().Format("2006-01-02 15:04 UTC"))
	}
	for _, d := range w.Deadlines {
		fmt.Fprintf(&b, "New: %s (%s), on %s.\n", d.Code, strings.TrimSuffix(d.Subject, "."), d.By.UTC().Format("2006-01-02 15:04 UTC"))
	}
	for _, f := range w.Findings {
		if f.Severity >= finding.Warning {
			fmt.Fprintf(&b, "\n%s: %s (%s)\n  %s\n  -> %s\n", f.Severity, f.Code, f.Subject, f.Message, f.Remedy)
		}
	}
	return b.String()
}

// Quiet is a time of day in which people are left alone, in a place's time. The zero value is never.
type Quiet struct {
	From, To int // minutes since midnight; From after To runs over midnight
	Place    *time.Location
}

// ParseQuiet reads two times of day such as 22:00 and 07:00, and a place such as Europe/Berlin; empty for UTC.
func ParseQuiet(from, to, place string) (q Quiet, err error) {
	if from == "" && to == "" {
		return q, nil
	}
	if q.From, err = minutes(from); err != nil {
		return q, err
	}
	if q.To, err = minutes(to); err != nil {
		return q, err
	}
	if q.Place, err = time.LoadLocation(place); err != nil {
		return q, fmt.Errorf("%q is no place's time; write one such as Europe/Berlin", place)
	}
	return q, nil
}

func minutes(text string) (int, error) {
	t, err := time.Parse("15:04", text)
	if err != nil {
		return 0, fmt.Errorf("%q is no time of day; write one such as 22:00", text)
	}
	return t.Hour()*60 + t.Minute(), nil
}

// Until returns when word may be brought: now, or the end of the quiet that now lies in.
func (q Quiet) Until(now time.Time) time.Time {
	if q.Place == nil || q.From == q.To {
		return now
	}
	local := now.In(q.Place)
	at := local.Hour()*60 + local.Minute()
	inside := q.From <= at && at < q.To
	if q.From > q.To {
		inside = at >= q.From || at < q.To
	}
	if !inside {
		return now
	}
	day := local.Day()
	if at >= q.To {
		day++
	}
	return time.Date(local.Year(), local.Month(), day, q.To/60, q.To%60, 0, 0, q.Place)
}
