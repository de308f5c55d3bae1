package wire

import (
	"time"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/handover"
	"beacon/core/handover/compare"
	"beacon/core/record"
)

// HandoverRequest begins the move of a domain to other nameservers. Nothing at a registrar changes before a user allows it.
type HandoverRequest struct {
	Domain      dnsname.Name  `json:"-"`           // the path names it
	To          string        `json:"to"`          // the provider account that the zone moves to; empty where nameservers are named
	From        string        `json:"from"`        // the provider account that is left; the connected one whose nameservers are active where it is not named, and - for none
	Nameservers []string      `json:"nameservers"` // in place of the account: a set that is not managed here
	Sign        bool          `json:"sign"`        // the new zone is signed, and a DS is published at the end
	KeepOld     bool          `json:"keep_old"`    // the old zone stays at its provider
	Grace       *int64        `json:"grace"`       // seconds from when the change has settled until the old zone is removed; a week where it is not named
	Window      string        `json:"window"`      // in which something outside may be changed, such as Tue 02:00-04:00; empty for always
	Timezone    string        `json:"timezone"`    // of the window, such as Europe/Berlin; empty for UTC
	Gap         bool          `json:"gap"`         // the new side accepts the domain only once it is delegated there: resolvers whose copy has expired get no answer until then; needs nameservers and a reason
	Lower       bool          `json:"lower"`       // TTLs are lowered before the move, so that the time in which both sides are asked is shorter, and restored at its end
	Allow       []handover.Do `json:"allow"`       // acts that need no further word; see HandoverWord
	Batch       string        `json:"batch"`       // the batch of domains that it belongs to; empty for none
	AtOnce      int           `json:"at_once"`     // how many of the batch may be under way at a time; 0 for all
	Reason      string        `json:"reason"`      // why, for the logbook
	DryRun      bool          `json:"dry_run"`     // show what it would be, and begin nothing
}

// HandoverWord is what a user says of a handover.
type HandoverWord struct {
	Domain dnsname.Name  `json:"-"`      // the path names it
	Allow  []handover.Do `json:"allow"`  // remove-ds, delegate, add-ds or retire; what is asked where nothing is named
	Agree  string        `json:"agree"`  // digest of the differences between both sides that are meant
	Pass   []string      `json:"pass"`   // codes of safety gates that are passed though they are closed; needs a reason
	Reason string        `json:"reason"` // why, for the logbook
}

// HandoverEnd ends or turns a handover.
type HandoverEnd struct {
	Domain dnsname.Name `json:"-"`      // the path names it
	Reason string       `json:"reason"` // why, for the logbook
}

// Handover is the move of a domain to other nameservers: how far it is, until when and why, and what is asked of a user.
type Handover struct {
	ID        uint64             `json:"id"`
	Domain    dnsname.Name       `json:"domain"`
	State     HandoverState      `json:"state"`
	Phase     handover.Phase     `json:"phase"`               // how far it is
	Registrar string             `json:"registrar"`           // the account; empty where a user enters changes there by hand
	From      string             `json:"from"`                // the provider account that is left; empty where it is not managed here
	To        string             `json:"to"`                  // the new provider account; empty where it is not managed here
	Old       []dnsname.Name     `json:"old"`                 // the nameservers that are left; empty for a first delegation
	New       []dnsname.Name     `json:"new"`                 // empty until the provider has assigned them
	Gap       string             `json:"gap"`                 // how long nobody may get an answer, where the new side accepts the domain only afterwards; empty otherwise
	Sign      bool               `json:"sign"`                // a DS of the new zone is published at the end
	Window    string             `json:"window"`              // in which something outside may be changed, with its timezone; empty for always
	Batch     string             `json:"batch"`               // the batch of domains that it belongs to; empty for none
	KeepOld   bool               `json:"keep_old"`            // the old zone stays at its provider
	BegunBy   string             `json:"begun_by"`            // the user
	BegunAt   time.Time          `json:"begun_at"`            // simulated time
	EndedAt   time.Time          `json:"ended_at,omitzero"`   // simulated time
	DecidedAt time.Time          `json:"decided_at,omitzero"` // when the domain was looked at last, simulated time
	NextAt    time.Time          `json:"next_at,omitzero"`    // when it is looked at again at the latest, simulated time
	Doing     string             `json:"doing"`               // what is being done now; empty for nothing
	Wait      []handover.Wait    `json:"wait"`                // what it waits for
	Asked     *HandoverAsked     `json:"asked"`               // the one thing that is asked of a user; null for nothing
	Closed    []finding.Finding  `json:"closed"`              // gates that are closed
	Hanging   []finding.Finding  `json:"hanging"`             // what else hangs on the nameservers that are left, and is to be seen to
	Compared  HandoverComparison `json:"compared"`            // what the two sides answered differently
	Later     []record.Set       `json:"later"`               // what is proposed as a draft once no cache asks the old nameservers
	Steps     []HandoverStep     `json:"steps"`               // what was done, and what is still to come, in order of time
	Ends      time.Time          `json:"ends,omitzero"`       // when it is likely done; left out where that cannot be foreseen
	Back      HandoverBack       `json:"back"`                // how to go back
	Report    []HandoverEvidence `json:"report"`              // what was established and when, the oldest first
	Trouble   string             `json:"trouble"`             // why the last act did not come about, or the domain could not be looked at
	Planned   []HandoverPlanned  `json:"planned"`             // when each step was expected as of the beginning
	Unwritten []UnwrittenHost    `json:"unwritten"`           // dynamic hosts whose address could not be written to one of the sides yet
}

// HandoverComparison is what the two sides answered differently.
type HandoverComparison struct {
	Names       int                  `json:"names"`       // names and types that both sides were asked for
	Differences []compare.Difference `json:"differences"` // what they answer differently
	Digest      string               `json:"digest"`      // names the differences, to agree to them
	Agreed      bool                 `json:"agreed"`      // a user agreed to these
}

// HandoverAsked is what is asked of a user.
type HandoverAsked struct {
	handover.Asked
	Text    string `json:"text"`    // what it is, in words
	Command string `json:"command"` // that answers it
	// Enter is what is entered at the registrar by hand: names of nameservers.
	Enter []string `json:"enter,omitempty"`
}

// HandoverStep is one step of a handover.
type HandoverStep struct {
	Text  string      `json:"text"`
	Do    handover.Do `json:"do,omitempty"` // the act; empty for a wait and the end
	State StepState   `json:"state"`
	At    time.Time   `json:"at,omitzero"`    // when it was done, or likely is, simulated time
	Until time.Time   `json:"until,omitzero"` // of a wait: when it ends
	Act   uint64      `json:"act,omitempty"`  // the act that did it
	Needs bool        `json:"needs"`          // a user has to allow it
	// Planned is when a step that was done was expected as of the beginning, simulated time.
	Planned time.Time `json:"planned,omitzero"`
}

// StepState is how far a step is.
type StepState string

// The states of a step.
const (
	StepDone    StepState = "done"
	StepCurrent StepState = "current"
	StepPending StepState = "pending"
)

// HandoverPlanned is when a step was expected.
type HandoverPlanned struct {
	Do handover.Do `json:"do"` // the act
	At time.Time   `json:"at"` // simulated time
}

// HandoverBack says how to go back.
type HandoverBack struct {
	Possible bool      `json:"possible"`       // whether one can go back
	Cheap    bool      `json:"cheap"`          // nothing at the registrar has to change for it
	Until    time.Time `json:"until,omitzero"` // when the old zone is likely removed, simulated time; going back ends with it
	Text     string    `json:"text"`           // what going back means now
	Command  string    `json:"command"`        // that goes back; empty where it is not possible
}

// HandoverEvidence is something that was established of a handover, or said of it.
type HandoverEvidence struct {
	At   time.Time `json:"at"`            // simulated time
	Text string    `json:"text"`          // what it is, in words
	By   string    `json:"by"`            // the user who said it; empty where it follows from evidence
	Act  uint64    `json:"act,omitempty"` // the act that did it
	// Grounds are what the evidence was, gate by gate, where an act was begun or asked for.
	Grounds []string `json:"grounds,omitempty"`
}

// HandoverState is whether a handover goes on.
type HandoverState string

// The states of a handover.
const (
	HandoverOpen      HandoverState = "open"
	HandoverPaused    HandoverState = "paused"
	HandoverDone      HandoverState = "done"
	HandoverAbandoned HandoverState = "abandoned"
)

// HandoverSummary is a handover in a list.
type HandoverSummary struct {
	ID     uint64         `json:"id"`
	Domain dnsname.Name   `json:"domain"`
	State  HandoverState  `json:"state"`
	Phase  handover.Phase `json:"phase"`            // how far it is
	From   string         `json:"from"`             // the provider account that is left; empty where it is not managed here
	To     string         `json:"to"`               // the new provider account; empty where it is not managed here
	Batch  string         `json:"batch"`            // that it belongs to; empty for none
	Asked  string         `json:"asked"`            // what is asked of a user, in words; empty for nothing
	NextAt time.Time      `json:"next_at,omitzero"` // when the next wait ends, simulated time; left out where that is no time
	Ends   time.Time      `json:"ends,omitzero"`    // when it is likely done, or was, simulated time
}
