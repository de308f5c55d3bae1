// Package checklist makes checks of an outside interface one after the other, and reports each as it is done. The conformance runs of
// providers and registrars are lists of such checks; they are the same against a real interface and in tests.
package checklist

import (
	"errors"
	"fmt"
	"time"

	"beacon/outcall"
)

// Outcome is what became of a check.
type Outcome string

// A check passed or failed, or says nothing about this interface.
const (
	Passed  Outcome = "passed"
	Failed  Outcome = "failed"
	Skipped Outcome = "not applicable"
)

// Result is one line of a report.
type Result struct {
	Check   string        `json:"check"`
	Outcome Outcome       `json:"outcome"`
	Detail  string        `json:"detail,omitempty"` // why it failed or does not apply
	Took    time.Duration `json:"took"`
	Cause   bool          `json:"cause,omitempty"` // it failed first, and others could not be tried for that reason
}

// NotApplicable is the error of a check that says nothing about an interface.
type NotApplicable string

func (n NotApplicable) Error() string { return string(n) }

// Check is one check.
type Check struct {
	Name   string
	Do     func() error
	Needed bool // nothing goes on without it
	Last   bool // is done whatever happened
}

// Run makes every check. After a failure that leaves nothing to go on with, the rest does not apply, with that as its reason. report is
// called with each result as it is known, and with how many checks there are; it may be nil.
func Run(checks []Check, report func(r Result, of int)) (all []Result) {
	var stuck error
	for _, c := range checks {
		start := time.Now()
		err := stuck
		if err == nil || c.Last {
			err = c.Do()
		}
		result := Result{Check: c.Name, Outcome: Passed, Took: time.Since(start)}
		var none NotApplicable
		switch {
		case errors.As(err, &none):
			result.Outcome, result.Detail = Skipped, string(none)
		case err != nil:
			result.Outcome, result.Detail = Failed, err.Error()
			if c.Needed && stuck == nil {
				result.Cause = true
				stuck = NotApplicable("not tried, since this failed: " + c.Name)
			}
		}
		all = append(all, result)
		if report != nil {
			report(result, len(checks))
		}
	}
	return all
}

// Failures counts the checks that failed.
func Failures(list []Result) (n int) {
	for _, r := range list {
		if r.Outcome == Failed {
			n++
		}
	}
	return n
}

// Want returns an error with the given text where ok is false.
func Want(ok bool, format string, args ...any) error {
	if ok {
		return nil
	}
	return fmt.Errorf(format, args...)
}

// WantKind returns an error where err is no failed request of some kind.
func WantKind(err error, kind outcall.Kind) error {
	if err == nil {
		return fmt.Errorf("it went well, and should have been %s", kind)
	}
	return Want(outcall.KindOf(err) == kind, "it should have been %s: %v", kind, err)
}
