package wire

import (
	"time"

	"beacon/core/dnsname"
	"beacon/core/gather"
	"beacon/core/record"
)

// GatheringRequest asks what a domain's zone contains where it is served now. Nothing is changed anywhere.
type GatheringRequest struct {
	Domain  dnsname.Name `json:"-"`       // the path names it
	Account string       `json:"account"` // the provider account to read from; where none is named, the connected one whose nameservers are active
	File    string       `json:"file"`    // name of a zone file, which is one more source
	Text    string       `json:"text"`    // the zone file
	Names   []string     `json:"names"`   // names that the zone is known to have, relative to it: where its nameservers have to be asked, these are
}

// Gathering is what was found of a domain's zone, and from where.
type Gathering struct {
	ID          uint64            `json:"id"`
	Domain      dnsname.Name      `json:"domain"`
	State       GatheringState    `json:"state"`
	Step        string            `json:"step"`    // what is being done now; empty once it has ended
	Problem     string            `json:"problem"` // why it ended before its end; empty where it did not
	Claim       gather.Claim      `json:"claim"`   // how complete the whole is
	Sources     []GatheringSource `json:"sources"` // the surest first
	Records     []GatheredSet     `json:"records"` // MostImported of them at most, in canonical order
	Count       int               `json:"count"`   // of the record sets, all of them
	Doubts      []GatheringDoubt  `json:"doubts"`  // record sets that a user decides about
	LeftOut     []record.Record   `json:"left_out"`
	RequestedBy string            `json:"requested_by"`
	CreatedAt   time.Time         `json:"created_at"`
	FinishedAt  *time.Time        `json:"finished_at"`
}

// GatheringState is how far a gathering is.
type GatheringState string

// The states of a gathering.
const (
	GatheringPending GatheringState = "pending"
	GatheringRunning GatheringState = "running"
	GatheringDone    GatheringState = "done"
	GatheringFailed  GatheringState = "failed"
)

// GatheringSource is one way in which a zone was looked at.
type GatheringSource struct {
	Kind    gather.Kind  `json:"kind"`
	Name    string       `json:"name"`    // the account, nameserver or file
	Claim   gather.Claim `json:"claim"`   // how complete it is
	Why     string       `json:"why"`     // what that rests on
	Sets    int          `json:"sets"`    // record sets that it has
	Asked   int          `json:"asked"`   // questions to nameservers
	Trusted bool         `json:"trusted"` // it is complete, and believed where others differ
}

// GatheredSet is a record set, and the sources that have it.
type GatheredSet struct {
	record.Set
	From []string `json:"from"` // names of the sources
}

// GatheringDoubt is a record set that a user decides about.
type GatheringDoubt struct {
	record.Key
	Kind gather.DoubtKind `json:"kind"`
	TTL  uint32           `json:"ttl"`  // seconds
	Data []record.Data    `json:"data"` // what was seen
	From string           `json:"from"` // the source that has it
	Open bool             `json:"open"` // it has to be decided before the records are accepted
	Text string           `json:"text"` // what it means, in words
}

// GatheringDecision is what a user decides about a record set.
type GatheringDecision struct {
	record.Key
	Choice gather.Choice `json:"choice" required:"true"` // keep, leave or alias
	Target string        `json:"target"`                 // of an alias: the name whose addresses it has
}

// GatheringAcceptance accepts what was gathered as desired records.
type GatheringAcceptance struct {
	Domain    dnsname.Name        `json:"-"`         // the path names it
	ID        uint64              `json:"id"`        // the gathering that was seen; the newest one where it is 0
	Decisions []GatheringDecision `json:"decisions"` // one for each open doubt
	Reason    string              `json:"reason"`    // why, for the logbook
	DryRun    bool                `json:"dry_run"`   // show what it would be, and accept nothing

	// Afterwards has the record sets that are replaced proposed as a draft, once no cache asks the old nameservers. It needs an open handover.
	Afterwards bool `json:"afterwards"`
}

// Holder says who holds a domain, as far as connected accounts and its registry tell.
type Holder struct {
	Domain      dnsname.Name   `json:"domain"`
	Account     string         `json:"account"`    // the connected account at a registrar that has it; empty for none
	Registered  bool           `json:"registered"` // its registry knows it
	Registrar   string         `json:"registrar"`  // the name of its registrar; empty where the registry does not tell it
	Expires     *time.Time     `json:"expires"`
	Status      []string       `json:"status"`      // in the words of RFC 8056, such as "client transfer prohibited"
	Nameservers []dnsname.Name `json:"nameservers"` // as the registry lists them
	Signed      bool           `json:"signed"`      // the parent has a DS
	From        string         `json:"from"`        // the RDAP server that was asked; empty for none
	Problem     string         `json:"problem"`     // why the registry could not be asked; empty where it was
	Advice      string         `json:"advice"`      // what to do next
}
