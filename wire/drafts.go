package wire

import (
	"time"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/core/rules"
)

// Draft is what is being changed in a zone: edits of whoever works on it, gathered, checked together, and put out
// together or dropped. A zone has one draft, which everybody sees.
type Draft struct {
	Zone      dnsname.Name      `json:"zone"`
	Tag       string            `json:"tag"`        // changes with every edit, and with every revision of the zone
	Revision  uint32            `json:"revision"`   // that the edits stand on; 0 for none yet
	ManagedBy string            `json:"managed_by"` // the definition file that has to be changed instead; empty for none
	Edits     []DraftEdit       `json:"edits"`
	Added     []record.Record   `json:"added"`
	Removed   []record.Record   `json:"removed"`
	Same      int               `json:"same"`
	Findings  []rules.Found     `json:"findings"` // what the rules say of the zone as it would be
	From      map[string]string `json:"from"`     // the kit that a set comes from, by its name and type, for those that come from one
	Overrun   []finding.Finding `json:"overrun"`  // edits of sets that were changed since then
}

// DraftEdit is one set that is changed.
type DraftEdit struct {
	Before record.Set `json:"before"`
	After  record.Set `json:"after"`
	Author string     `json:"author"`
	At     time.Time  `json:"at"`
	// Attributes are those of the set that change with it.
	Attributes []AttributeChange `json:"attributes"`
}

// AttributeChange is a declared attribute of a set that becomes another; empty where it is not declared.
type AttributeChange struct {
	Set    string `json:"set"` // as in a definition, such as www A
	Name   string `json:"name"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// RecordEdit changes one record: without before it is added, without after it is taken out.
type RecordEdit struct {
	Before *record.Record `json:"before"`
	After  *record.Record `json:"after"`
}

// DraftChange is what somebody does to a draft, all of it or nothing.
type DraftChange struct {
	Records []RecordEdit `json:"records"`
	Sets    []rules.Edit `json:"sets"` // as findings offer them
	Undo    []record.Key `json:"undo"` // edits to be dropped
	// Attributes are declared for sets; an empty value withdraws one.
	Attributes []SetAttribute `json:"attributes"`
}

type AcceptDraft struct {
	Reason string `json:"reason"` // for the record
}

type Pasted struct {
	Text string `json:"text"`
	TTL  uint32 `json:"ttl"` // of records that state none, seconds
}

type JoinFields struct {
	Type   record.Type       `json:"type" required:"true"`
	Fields map[string]string `json:"fields" required:"true"`
}

type JoinedData struct {
	Data record.Data `json:"data"`
}
