package wire

import (
	"time"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/handover"
	"beacon/core/handover/compare"
)

// DelegateRequest asks to move a domain to other nameservers.
type DelegateRequest struct {
	Domain      dnsname.Name `json:"-"`           // the path names it
	Nameservers []string     `json:"nameservers"` // as typed; empty for the desired ones, or those of the only placement
	SaveOnly    bool         `json:"save_only"`   // store the list at the registrar and leave it inactive
	Undo        bool         `json:"undo"`        // go back to the set that was active before
	Override    []string     `json:"override"`    // codes of gates that are passed though they are closed
	Reason      string       `json:"reason"`      // why, for the logbook; needed where a safety gate is passed
	Agree       string       `json:"agree"`       // digest of the differences between both sides that are meant
}

// Delegated is what a delegation would do, or did.
type Delegated struct {
	Domain      dnsname.Name            `json:"domain"`
	Registrar   string                  `json:"registrar"`
	Before      delegation.Registration `json:"before"` // at the registrar
	After       delegation.Registration `json:"after"`
	Parent      []dnsname.Name          `json:"parent"` // what the parents served before
	Wanted      []dnsname.Name          `json:"wanted"`
	Findings    []finding.Finding       `json:"findings"`
	Closed      []finding.Finding       `json:"closed"`      // gates that are closed and not passed; where there is one, nothing is sent
	Differences []compare.Difference    `json:"differences"` // between what the two sides answer
	Compared    int                     `json:"compared"`    // names and types that both sides were asked for
	Digest      string                  `json:"digest"`      // names the differences, to agree to them; empty where there are none that change answers
	Steps       []string                `json:"steps"`       // what was done, or in a dry run would be
	Next        string                  `json:"next"`        // what is to be done now
	// InZone is the zone that is managed here and in which the domain is delegated; empty where the registration is elsewhere.
	InZone string `json:"in_zone,omitempty"`
	// Activation reports whether a saved list has to be activated at the registrar.
	Activation bool `json:"activation"`
	// ByHand is there where no registrar account is named for the domain: a person enters the list at the registrar.
	ByHand *ByHand `json:"by_hand,omitempty"`
}

// ByHand is what a person enters at a registrar, and how far that got.
type ByHand struct {
	Names   []string         `json:"names"`     // to copy, without final dot
	WithDot []string         `json:"with_dot"`  // the same with final dot, which some forms ask for
	Forms   []string         `json:"forms"`     // what forms of registrars object to, and what to do then
	Entered handover.Entered `json:"entered"`   // how far it got, as the parents show it
	Begun   bool             `json:"has_begun"` // a user said that the list is being entered
}

// RetireRequest asks for a zone to be taken from a provider.
type RetireRequest struct {
	Zone    dnsname.Name `json:"-"` // the path names it
	Account string       `json:"account" required:"true"`
	Keep    bool         `json:"keep"` // the zone stays at the provider, and is no longer managed there
	// Override names safety gates that the user passes: names lose their answers. It needs a reason.
	Override []string `json:"override,omitempty"`
	Reason   string   `json:"reason,omitempty"`
}

// DeleteRequest asks for a zone to be deleted here: its records, revisions, hosts and checks. Nothing changes at a provider or registrar.
type DeleteRequest struct {
	Zone     dnsname.Name `json:"-"`                  // the path names it
	Override []string     `json:"override,omitempty"` // safety gates that the user passes
	Reason   string       `json:"reason,omitempty"`   // needed with Override
}

// Deleted returns what the deletion of a zone does, or did.
type Deleted struct {
	Zone    dnsname.Name      `json:"zone"`
	Deleted bool              `json:"deleted"`
	Records int               `json:"records"` // that it contained
	Hosts   int               `json:"hosts"`   // whose tokens end with it
	Guards  []finding.Finding `json:"guards"`  // that block it
}

// Retired returns what the taking of a zone from a provider does, or did.
type Retired struct {
	Zone    dnsname.Name      `json:"zone"`
	Account string            `json:"account"`
	Removed bool              `json:"removed"` // the zone is gone from the provider
	Left    []string          `json:"left"`    // accounts that it is still placed at
	Guards  []finding.Finding `json:"guards"`  // that speak
}

// ForecastRequest asks for the timetable of a handover. It changes nothing.
type ForecastRequest struct {
	Domain      dnsname.Name `json:"-"`           // the path names it
	To          string       `json:"to"`          // the provider account that has the zone too, in place of nameservers; empty for none
	Nameservers []string     `json:"nameservers"` // as for a delegation
	Sign        bool         `json:"sign"`        // the new zone is signed, and a DS is published at the end
	KeepOld     bool         `json:"keep_old"`    // the old zone stays at its provider
	Grace       *int64       `json:"grace"`       // seconds from when the change has settled until the old zone is removed; a week where it is not named
	Publish     *int64       `json:"publish"`     // seconds that the registry is assumed to take until its nameservers serve a change; five minutes where it is not named
	Agree       string       `json:"agree"`       // digest of the differences between both sides that are meant
	Window      string       `json:"window"`      // in which something outside may be changed, such as Tue 02:00-04:00; empty for always
	Timezone    string       `json:"timezone"`    // of the window, such as Europe/Berlin; empty for UTC
}

// Forecast is when a handover would do what, if nothing else changes and every step is done as soon as it may be.
type Forecast struct {
	Domain    dnsname.Name   `json:"domain"`
	Registrar string         `json:"registrar"`
	Old       []dnsname.Name `json:"old"` // the nameservers that are left; empty for a first delegation
	New       []dnsname.Name `json:"new"`
	Now       time.Time      `json:"now"` // simulated time
	Steps     []ForecastStep `json:"steps"`
	Ends      time.Time      `json:"ends,omitzero"` // when the last step is done; left out where that cannot be foreseen
	Next      string         `json:"next"`          // what is to be done now
	// Closed are gates that nothing in the handover opens: a user has to act first.
	Closed []finding.Finding `json:"closed"`
}

// ForecastStep is a moment of a handover at which something is done, or waited for.
type ForecastStep struct {
	At      time.Time      `json:"at"`             // simulated time
	Until   time.Time      `json:"until,omitzero"` // of a wait: when it ends, where that is known
	Phase   handover.Phase `json:"phase"`          // how far the handover is then
	Do      handover.Do    `json:"do,omitempty"`   // the act; empty for a wait and the end
	Text    string         `json:"text"`           // what is done or waited for
	Command string         `json:"command"`        // that does it; empty for a wait, and where a person does it elsewhere
}
