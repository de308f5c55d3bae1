package handover

import (
	"slices"

	"beacon/core/finding"
)

// AskKind is what is asked of a user.
type AskKind string

// What a handover asks of a user: one thing at a time.
const (
	AskAllow  AskKind = "allow"   // an act that waits for a user to allow it
	AskAgree  AskKind = "agree"   // to what the two sides answer differently, or to change it
	AskByHand AskKind = "by-hand" // an entry at the registrar that nothing here can make
	AskFix    AskKind = "fix"     // a gate that the handover does not open by itself
)

// Asked is the one thing that a handover asks of a user.
type Asked struct {
	Kind AskKind `json:"kind"`
	Do   Do      `json:"do,omitempty"`   // of allow and by-hand
	Gate string  `json:"gate,omitempty"` // code of the gate; of agree and fix
}

// Consent returns the acts that a user has to allow: they change what resolvers see, or cannot be taken back.
func Consent() []Do { return []Do{DoRemoveDS, DoDelegate, DoAddDS, DoRetire} }

// Hands says how acts are done.
type Hands struct {
	Allowed []Do // by a user, of those that need it
	ByHand  []Do // that nothing here can do
}

// Start returns the acts of a decision that may be started, and what is asked of a user; ask is nil where nothing is. An act that a user enters by hand needs no
// permission: it is asked for as soon as its gates are open.
func (d Decision) Start(h Hands) (start []Do, ask *Asked) {
	for _, do := range d.Do {
		switch {
		case slices.Contains(h.ByHand, do):
			ask = first(ask, Asked{Kind: AskByHand, Do: do})
		case slices.Contains(Consent(), do) && !slices.Contains(h.Allowed, do):
			ask = first(ask, Asked{Kind: AskAllow, Do: do})
		default:
			start = append(start, do)
		}
	}
	if ask != nil || len(d.Do) > 0 {
		return start, ask
	}
	for _, f := range d.Closed {
		switch {
		case f.Code == GateDSWait || f.Code == GateDSPending || f.Severity != finding.Error: // time opens it
		case f.Code == GateAnswers:
			ask = first(ask, Asked{Kind: AskAgree, Gate: f.Code})
		default:
			ask = first(ask, Asked{Kind: AskFix, Gate: f.Code})
		}
	}
	return start, ask
}

func first(ask *Asked, next Asked) *Asked {
	if ask != nil {
		return ask
	}
	return &next
}
