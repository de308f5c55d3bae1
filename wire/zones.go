package wire

import (
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/rules"
)

// CareView is how a zone is looked after, as it is shown and given.
type CareView struct {
	Drift    string     `json:"drift"`     // what becomes of changes made elsewhere: "ask", "put back" or "adopt"
	OnlyOurs bool       `json:"only_ours"` // sets that were there before us are left, whatever is wanted
	Protect  []string   `json:"protect"`   // patterns of sets whose going needs a yes of its own
	Sites    []string   `json:"sites"`     // names that carry a site, @ for the apex; those that usually do where it is left out
	Extras   []ExtraSet `json:"extras"`    // attributes that sets shall have at providers that know them
}

// ExtraSet is one attribute of one set.
type ExtraSet struct {
	Set   string `json:"set"` // name below the zone, and type, such as "www A"
	Name  string `json:"name"`
	Value string `json:"value"`
}

// ZoneView is a zone as it is shown.
type ZoneView struct {
	Name       dnsname.Name    `json:"name"`
	Label      string          `json:"label"`
	Registrar  string          `json:"registrar"`
	LedBy      string          `json:"led_by"` // the definition file that says what it contains; empty for none
	TakenOver  bool            `json:"taken_over"`
	Leave      []string        `json:"leave"` // patterns of sets that somebody else looks after
	Care       CareView        `json:"care"`
	Drafted    int             `json:"drafted"` // edits in its draft
	Revision   *Revision       `json:"revision"`
	Placements []PlacementView `json:"placements"`
}

// PlacementView is a zone's placement as it is shown.
type PlacementView struct {
	Account     string         `json:"account"`
	Made        bool           `json:"made"` // the zone exists at the provider
	Nameservers []dnsname.Name `json:"nameservers"`
	LastSync    *SyncView      `json:"last_sync"`
}

// Import is a zone file that is to become what a zone should contain.
type Import struct {
	Zone   dnsname.Name `json:"-"`    // the path names it
	File   string       `json:"file"` // its name, for faults and for the record of where it came from
	Text   string       `json:"text"`
	Why    string       `json:"why"`
	DryRun bool         `json:"dry_run"`
}

// LeftOut is a record of an imported file that is not taken over, and why.
type LeftOut struct {
	Record record.Record `json:"record"`
	Why    string        `json:"why"`
}

// Imported says what an import does, or did.
type Imported struct {
	Zone     dnsname.Name    `json:"zone"`
	Added    []record.Record `json:"added"`
	Removed  []record.Record `json:"removed"`
	Same     int             `json:"same"`
	LeftOut  []LeftOut       `json:"left_out"`
	Findings []rules.Found   `json:"findings"` // what the rules say of the zone
	Revision *Revision       `json:"revision"` // nil in a dry run
}
