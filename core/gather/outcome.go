package gather

import (
	"fmt"

	"beacon/core/record"
)

// Progress returns how many questions were asked, and how many names were found to have records.
func (a *Asking) Progress() (asked, names int) {
	for name, n := range a.nodes {
		if _, made := a.probes[name]; !made && len(n.sets) > 0 {
			names++
		}
	}
	return a.total, names
}

// Outcome returns what was found.
func (a *Asking) Outcome(server string) Source {
	s := Source{Kind: FromAsking, Name: server, Asked: a.total}
	if len(a.opt.Known) > 0 {
		s.Kind = FromWalk
	}
	var sets []record.Set
	sets, s.Doubts = a.found()
	s.Contents = record.ContentsOf(sets...)
	s.Claim, s.Why = a.claim()
	return s
}

func (a *Asking) claim() (Claim, string) {
	switch {
	case a.silent >= mostSilent:
		return Partial, "the nameserver stopped answering"
	case a.stage < finished || a.open > 0 || len(a.queue) > 0:
		return Partial, fmt.Sprintf("broken off after %d questions", a.total)
	case len(a.unheard) > 0:
		return Partial, fmt.Sprintf("no answer for %d questions, such as %s", len(a.unheard), a.unheard[0])
	case len(a.serials) > 1:
		return Partial, "the zone changed while it was asked: its serial differs"
	case len(a.opt.Known) > 0:
		return Complete, "all names and types of the NSEC chain"
	}
	if len(a.chain.links) > 0 {
		return a.chain.claim(a.existingNames())
	}
	return Unknown, "names that nobody tried are not found"
}
