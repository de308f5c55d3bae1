package wire

import (
	"fmt"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/core/zonefile"
)

// ProblemKind sorts problems by what whoever asked can do about them.
type ProblemKind string

// The kinds of problems.
const (
	Invalid        ProblemKind = "invalid"         // what was given cannot be used as it is
	NotFound       ProblemKind = "not-found"       // what was named is not here
	Blocked        ProblemKind = "blocked"         // something else has to end, or be decided, first
	Unconditional  ProblemKind = "unconditional"   // it has to be said which state of it was looked at
	Stale          ProblemKind = "stale"           // what it was to be done to has changed since it was looked at
	UpstreamFailed ProblemKind = "upstream-failed" // a provider or registrar failed
	Unavailable    ProblemKind = "unavailable"     // the service's own database is away; try again
	Limited        ProblemKind = "limited"         // too much is asked for at a time; try again after a while
	NotSignedIn    ProblemKind = "not-signed-in"
	NotPermitted   ProblemKind = "not-permitted"
)

// Problem is an error that is meant for people: what was wrong, where, and what to do.
type Problem struct {
	Kind     ProblemKind
	Message  string
	Faults   []zonefile.Fault  // in texts that were given
	Findings []finding.Finding // in what was asked for
	After    int               // with Limited: seconds until another try
}

func (p *Problem) Error() string { return p.Message }

// Problemf returns a problem of a kind with a formatted message, in which names are written as people read them, without a final dot.
func Problemf(kind ProblemKind, format string, args ...any) *Problem {
	for i, arg := range args {
		switch v := arg.(type) {
		case dnsname.Name:
			args[i] = v.Unicode()
		case record.Key:
			args[i] = v.Name.Unicode() + " " + v.Type.String()
		}
	}
	return &Problem{Kind: kind, Message: fmt.Sprintf(format, args...)}
}

// ProblemDocument is an error as RFC 9457 has it, with what was found in texts and in what was asked for.
type ProblemDocument struct {
	Type     string            `json:"type"`
	Title    string            `json:"title"`
	Status   int               `json:"status"`
	Detail   string            `json:"detail"`
	Faults   []zonefile.Fault  `json:"faults,omitempty"`
	Findings []finding.Finding `json:"findings,omitempty"`
}
