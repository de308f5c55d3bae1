package service

import (
	"errors"
	"fmt"

	"beacon/core/finding"
	"beacon/core/zonefile"
	"beacon/outcall"
	"beacon/store"
)

// ProblemKind sorts problems by what whoever asked can do about them.
type ProblemKind string

// The kinds of problems.
const (
	Invalid       ProblemKind = "invalid"       // what was given cannot be used as it is
	Missing       ProblemKind = "missing"       // what was named is not here
	InTheWay      ProblemKind = "in-the-way"    // something else has to end, or be decided, first
	Unconditional ProblemKind = "unconditional" // it has to be said which state of it was looked at
	Stale         ProblemKind = "stale"         // what it was to be done to has changed since it was looked at
	Outside       ProblemKind = "outside"       // a provider or registrar failed
	NotSignedIn   ProblemKind = "not-signed-in"
	NotPermitted  ProblemKind = "not-permitted"
)

// Problem is an error that is meant for people: what was wrong, where, and what to do.
type Problem struct {
	Kind     ProblemKind
	Message  string
	Faults   []zonefile.Fault  // in texts that were given
	Findings []finding.Finding // in what was asked for
}

func (p *Problem) Error() string { return p.Message }

func problem(kind ProblemKind, format string, args ...any) *Problem {
	return &Problem{Kind: kind, Message: fmt.Sprintf(format, args...)}
}

// counted is a number with its noun.
func counted(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// explain turns errors of the store and of outside requests into problems; others pass through.
func explain(err error) error {
	var p *Problem
	var call *outcall.Error
	switch {
	case err == nil || errors.As(err, &p):
		return err
	case errors.As(err, &call):
		remedy := ""
		switch call.Kind {
		case outcall.Unauthorised:
			remedy = ". Check the credential of this account"
		case outcall.Unavailable, outcall.Limited:
			remedy = ". Try again in a moment"
		}
		return problem(Outside, "%s%s.", err, remedy)
	case errors.Is(err, store.ErrNotFound):
		return problem(Missing, "%s.", err)
	case errors.Is(err, store.ErrTaken):
		return problem(InTheWay, "%s.", err)
	}
	return err
}

// passing reports whether a failure of an outside request may be gone at the next try.
func passing(err error) bool {
	kind := outcall.KindOf(err)
	return kind == outcall.Unavailable || kind == outcall.Limited
}
