package wire

import (
	"time"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/handover"
	"beacon/core/record"
)

// DomainView is where a domain stands, as of the last check.
type DomainView struct {
	Name        dnsname.Name       `json:"name"`
	Description string             `json:"description"`
	Registrar   string             `json:"registrar"`
	Providers   []string           `json:"providers"` // provider accounts
	Wanted      []dnsname.Name     `json:"wanted"`
	Verdict     delegation.Verdict `json:"verdict"` // empty before the first check
	SettlesBy   *time.Time         `json:"settles_by"`
	CheckedAt   *time.Time         `json:"checked_at"`
	Gravest     string             `json:"gravest"` // code of the gravest error or warning; empty for none
}

// DomainFilter narrows a list of domains down. The zero value leaves all in it.
type DomainFilter struct {
	Verdict *delegation.Verdict // empty: not checked yet
	Finding string              // code of the gravest finding
	Name    string              // part of the name
	Sort    string              // "name", "settles_by" or "checked_at"; empty: name
	Behind  *time.Time          // the time, by which it is sorted, of the last domain of the page before
}

// DomainCounts is how many domains there are, by verdict and gravest finding.
type DomainCounts struct {
	Total  int           `json:"total"`
	Counts []DomainCount `json:"counts"`
}

// DomainCount is how many domains have a verdict and a gravest finding.
type DomainCount struct {
	Verdict delegation.Verdict `json:"verdict"` // empty before the first check
	Gravest string             `json:"gravest"`
	Domains int                `json:"domains"`
}

// FleetDomain is one domain among thousands: its state, and its gravest finding.
type FleetDomain struct {
	Name      dnsname.Name       `json:"name"`
	Verdict   delegation.Verdict `json:"verdict"` // empty before the first check
	SettlesBy *time.Time         `json:"settles_by"`
	CheckedAt *time.Time         `json:"checked_at"`
	Gravest   string             `json:"gravest"` // code of the gravest error or warning; empty for none
}

// DomainDetail is one domain with the stages of its way.
type DomainDetail struct {
	DomainView
	Passage  []handover.Stage `json:"passage"`
	Handover HandoverState    `json:"handover"` // of the newest handover; empty where there was none
}

// BriefChecks returns how far a brief look at all domains is.
type BriefChecks struct {
	Since    time.Time                  `json:"since"`    // real time at which it was asked for
	Ended    *time.Time                 `json:"ended"`    // real time; null while it goes on
	Domains  int                        `json:"domains"`  // that there are
	Looked   int                        `json:"looked"`   // that were looked at since then
	Verdicts map[delegation.Verdict]int `json:"verdicts"` // of those
	Items    []FleetDomain              `json:"items"`    // once all were looked at, the ones that are not settled
}

// SweepRequest asks for evidence alone, as another instance does of a vantage point.
type SweepRequest struct {
	Domain      dnsname.Name   `json:"domain" required:"true"`
	Nameservers []dnsname.Name `json:"nameservers,omitempty"`
	Watched     []record.Key   `json:"watched,omitempty"`
}

// ChannelView is one way to tell, and what became of the last try.
type ChannelView struct {
	Name string `json:"name"`
	Kind string `json:"kind"` // "mail" or "webhook"
	To   string `json:"to"`
}
