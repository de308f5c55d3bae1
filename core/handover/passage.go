package handover

import (
	"slices"

	"beacon/core/delegation"
	"beacon/core/dnsname"
)

// Progress is where a domain is on its way.
type Progress struct {
	Records bool // it is known what the zone should contain
	Placed  bool // every provider holds the zone, and what it should contain was written there
	Wanted  []dnsname.Name
	Parent  []dnsname.Name // what the parents serve
	Saved   []dnsname.Name // stored at the registrar; active only once made active
	Active  []dnsname.Name // active at the registrar
	Verdict delegation.Verdict
	Moving  bool   // a handover is open
	Zone    string // in which it is delegated, where that is managed here; empty where a registrar holds it
}

// StageState reports whether a stage is behind, at hand, or still to come.
type StageState string

// The states of a stage; one at most is at hand.
const (
	StageDone    StageState = "done"
	StageCurrent StageState = "current"
	StagePending StageState = "pending"
)

// Stage is one stretch of a domain's way.
type Stage struct {
	Code  string     `json:"code"` // records, placed, delegated or settled
	State StageState `json:"state"`
	Say   string     `json:"say"` // what it means now, or what to do
}

// Passage returns the stages in their order. The first that is not done is at hand; what was done stays behind, also where
// an earlier stage has opened again.
func Passage(p Progress) []Stage {
	delegated := len(p.Wanted) > 0 && delegation.SameSet(p.Parent, p.Wanted)
	stages := []struct {
		code          string
		done          bool
		behind, ahead string
	}{
		{"records", p.Records, "The desired records are known.", "Set the desired records: apply a definition."},
		{"placed", p.Placed, "The providers hold the zone and its records.", "Write the records to the provider."},
		{"delegated", delegated, "The parent names the desired nameservers.", delegateSay(p)},
		{"settled", delegated && p.Verdict == delegation.Settled, "The old answers have expired from every cache.", settleSay(p.Verdict)},
	}
	out := make([]Stage, len(stages))
	open := false
	for i, s := range stages {
		out[i] = Stage{s.code, StageDone, s.behind}
		switch {
		case s.done:
		case open:
			out[i].State, out[i].Say = StagePending, s.ahead
		default:
			out[i].State, out[i].Say = StageCurrent, s.ahead
			open = true
		}
	}
	return out
}

func delegateSay(p Progress) string {
	if p.Moving {
		return "The handover changes the nameservers once you allow it."
	}
	if p.Zone != "" {
		return "Write the delegation into " + p.Zone + "."
	}
	isWanted := func(set []dnsname.Name) bool { return len(set) > 0 && slices.Equal(set, p.Wanted) }
	switch {
	case isWanted(p.Active) && p.Verdict == delegation.Unknown:
		return "The registrar has the new list active; whether the parent serves it is not known."
	case isWanted(p.Active):
		return "The registrar has the new list active; the parent does not serve it yet."
	case isWanted(p.Saved):
		return "The new list is saved at the registrar and not active: make it active."
	}
	return "Change the nameservers at the registrar."
}

func settleSay(v delegation.Verdict) string {
	switch v {
	case delegation.ReadyToMove:
		return "Begins when the nameservers are changed."
	case delegation.NeedsAction, delegation.Undelegated:
		return "Waiting will not fix this. The findings show what to do."
	case delegation.Unknown:
		return "The check failed. Check again."
	}
	return "Wait until the old answers have expired from every cache."
}
