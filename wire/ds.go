package wire

import (
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

// DSRequest asks for the DS set of a domain to be changed at its registrar.
type DSRequest struct {
	Domain   dnsname.Name `json:"-"`        // the path names it
	Remove   bool         `json:"remove"`   // no DS is to stay; else the set is computed from the keys that the nameservers serve
	Compare  bool         `json:"compare"`  // in a preview: nothing is to be published, so an unsigned zone without a DS is as it should be
	Override []string     `json:"override"` // codes of gates that are passed though they are closed
	Reason   string       `json:"reason"`   // why, for the logbook; needed where a gate is passed
}

// DSChange is what a change of a DS set would do, or did.
type DSChange struct {
	Domain    dnsname.Name      `json:"domain"`
	Registrar string            `json:"registrar"` // the account, or the parent zone; empty where a person enters it
	Parent    []record.Data     `json:"parent"`    // what the parents serve
	Before    []record.Data     `json:"before"`    // at the registrar, where it shows it
	DS        []record.Data     `json:"ds"`        // the DS set that is to be
	Keys      []record.Data     `json:"dnskeys"`   // the keys that it is computed from
	Findings  []finding.Finding `json:"findings"`
	Closed    []finding.Finding `json:"closed"`  // gates that are closed and not passed; where there is one, nothing is sent
	Pending   bool              `json:"pending"` // something is to be sent
	ByHand    bool              `json:"by_hand"` // a person has to enter it: the registrar takes no DS here, or none is named
	Next      string            `json:"next"`    // what is to be done now
}
