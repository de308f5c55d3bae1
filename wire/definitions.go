package wire

import (
	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
	"beacon/core/rules"
)

// Applied returns what a definition does to one zone, or did.
type Applied struct {
	Zone         dnsname.Name      `json:"zone"`
	New          bool              `json:"new"` // not managed here before
	Added        []record.Record   `json:"added"`
	Removed      []record.Record   `json:"removed"`
	Same         int               `json:"same"`
	Providers    []string          `json:"providers"`
	NewProviders []string          `json:"new_providers"` // accounts at which it was not placed before
	Registrar    string            `json:"registrar"`
	Kits         []string          `json:"kits"`       // that it uses
	From         []string          `json:"from"`       // the kit that each added record comes from, empty for its own
	ManagedBy    string            `json:"managed_by"` // the file that leads it so far
	Detached     bool              `json:"detached"`   // a user took it out of the hands of its file
	Drafted      int               `json:"drafted"`    // edits in its draft
	Findings     []rules.Found     `json:"findings"`   // what the rules say of the zone
	Changed      bool              `json:"changed"`    // in a dry run: by its records or providers
	Unsynced     []string          `json:"unsynced"`   // accounts to which the present revision has still to be written
	Guards       []finding.Finding `json:"guards"`     // that block the change of records, unless allowed
	Syncs        []SyncView        `json:"syncs"`      // that were started
	Waiting      []WaitingSync     `json:"waiting"`    // syncs that could not be started yet
	Revision     *Revision         `json:"revision"`   // nil in a dry run
}

// WaitingSync is a sync that has to wait for something else to end.
type WaitingSync struct {
	Account string `json:"account"`
	Problem string `json:"problem"`
}

// ApplyRequest asks for definition files to be taken.
type ApplyRequest struct {
	Files  []definition.File `json:"files" required:"true"`
	DryRun bool              `json:"dry_run"`
	Manage bool              `json:"manage"`          // the files say from now on what their zones contain, and nothing else does
	Sync   bool              `json:"sync,omitempty"`  // start the syncs that are needed, in the same transaction
	Allow  []string          `json:"allow,omitempty"` // guards that are allowed, by code
	Reason string            `json:"reason"`          // for the record
}

// ZoneDefinition is the definition of a zone, written back out.
type ZoneDefinition struct {
	Text string   `json:"text"`
	Kits []string `json:"kits"` // that were found to fit
}

// HouseKit is the kit that new zones start with.
type HouseKit struct {
	Name        string `json:"name"` // empty where there is none
	Description string `json:"description"`
}

// GenerateRequest asks for a definition of a zone that exists elsewhere: what it contains comes from a zone file, or is
// read from the provider account that holds it now.
type GenerateRequest struct {
	Zone        dnsname.Name `json:"zone" required:"true"`
	File        string       `json:"file"`      // name of the zone file
	Text        string       `json:"text"`      // of the zone file; empty to read from an account
	From        string       `json:"from"`      // provider account; empty to look through all of them
	Providers   []string     `json:"providers"` // provider accounts that serve it
	Registrar   string       `json:"registrar"`
	Description string       `json:"description"`
	New         bool         `json:"new"` // it exists nowhere yet: begin with the house kit
}

// Generated is a definition to be looked over; nothing is kept of it here.
type Generated struct {
	Text    string    `json:"text"`
	From    string    `json:"from"` // the account, or the file
	LeftOut []LeftOut `json:"left_out"`
}
