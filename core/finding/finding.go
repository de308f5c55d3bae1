// Package finding holds the one form in which Agile Beacon states a judgement: about records, about a definition,
// about a delegation. It knows no rule itself.
package finding

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// Severity returns how much a finding matters. The zero value is no severity.
type Severity uint8

// Errors block or mean "wrong"; warnings work but are fragile; notices are worth a word.
const (
	Notice Severity = iota + 1
	Warning
	Error
)

var severityNames = [...]string{"", "notice", "warning", "error"}

func (s Severity) String() string {
	if int(s) < len(severityNames) {
		return severityNames[s]
	}
	return fmt.Sprintf("severity %d", s)
}

// MarshalText prints the severity's word.
func (s Severity) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads one of "notice", "warning", "error".
func (s *Severity) UnmarshalText(text []byte) error {
	for i, name := range severityNames {
		if i > 0 && name == string(text) {
			*s = Severity(i)
			return nil
		}
	}
	return fmt.Errorf("%q is no severity; use notice, warning or error", text)
}

// Finding is one judgement.
type Finding struct {
	Code     string   `json:"code"`           // stable, in kebab-case
	Severity Severity `json:"severity"`       // how much it matters
	Subject  string   `json:"subject"`        // whom it concerns: a name, a server, a resolver
	Message  string   `json:"message"`        // what was seen and what it means
	Remedy   string   `json:"remedy"`         // what to do now
	Seen     []string `json:"seen,omitempty"` // what it rests on: who answered what, in presentation form
	// By is when what it warns of comes about by itself; nil where there is no such moment.
	By *time.Time `json:"by,omitempty"`
}

func (f Finding) String() string {
	return fmt.Sprintf("%s %s (%s): %s %s", f.Severity, f.Code, f.Subject, f.Message, f.Remedy)
}

// Sort puts the gravest first, then orders by code and subject, so that equal evidence gives equal reports.
func Sort(list []Finding) {
	slices.SortStableFunc(list, func(a, b Finding) int {
		return cmp.Or(-cmp.Compare(a.Severity, b.Severity), cmp.Compare(a.Code, b.Code), cmp.Compare(a.Subject, b.Subject))
	})
}

// Worst returns the gravest severity in list, or zero for none.
func Worst(list []Finding) Severity {
	worst := Severity(0)
	for _, f := range list {
		worst = max(worst, f.Severity)
	}
	return worst
}
