package wire

import (
	"fmt"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/core/soa"
)

// ZoneSettings is how a zone is looked after, as it is shown and given.
type ZoneSettings struct {
	Drift        string         `json:"drift"`         // what becomes of changes made elsewhere: "manual", "revert" or "adopt"
	KeepExisting bool           `json:"keep_existing"` // sets that were there before us are left, whatever is wanted
	Protect      []string       `json:"protect"`       // patterns of sets whose going needs a yes of its own
	Websites     []string       `json:"websites"`      // names that carry a site, @ for the apex; those that usually do where it is left out
	Attributes   []SetAttribute `json:"attributes"`    // attributes of record sets at providers that have them
	SOA          SOA            `json:"soa"`           // desired fields of the SOA record, over the defaults of the service
}

// SOA is desired fields of a zone's SOA record (RFC 1035 section 3.3.13), where a provider lets them be set. A field that is left out is not desired.
type SOA struct {
	MName   string `json:"mname,omitempty"`   // the primary nameserver
	RName   string `json:"rname,omitempty"`   // the mailbox of who answers for the zone, as a mail address or as a name
	Refresh uint32 `json:"refresh,omitempty"` // how often secondaries ask, in seconds
	Retry   uint32 `json:"retry,omitempty"`   // how soon they ask again after a failure, in seconds
	Expire  uint32 `json:"expire,omitempty"`  // how long they answer without having reached the primary, in seconds
	Minimum uint32 `json:"minimum,omitempty"` // how long caches keep that a name does not exist, in seconds
	TTL     uint32 `json:"ttl,omitempty"`     // of the record itself, in seconds
}

// SOAOf returns parameters as they are shown.
func SOAOf(p soa.Parameters) SOA {
	return SOA{p.MName.String(), p.Get("rname"), p.Refresh, p.Retry, p.Expire, p.Minimum, p.TTL}
}

// Parameters reads what was given, or returns an error that says what is wrong with it.
func (s SOA) Parameters() (p soa.Parameters, err error) {
	p = soa.Parameters{Refresh: s.Refresh, Retry: s.Retry, Expire: s.Expire, Minimum: s.Minimum, TTL: s.TTL}
	for _, seconds := range []uint32{s.Refresh, s.Retry, s.Expire, s.Minimum, s.TTL} {
		if seconds > record.MaxTTL {
			return p, fmt.Errorf("%d is no time; write at most %d seconds", seconds, record.MaxTTL)
		}
	}
	if err := p.Set("mname", s.MName); err != nil {
		return p, err
	}
	return p, p.Set("rname", s.RName)
}

// SetAttribute is one attribute of one set.
type SetAttribute struct {
	Set   string `json:"set"` // name below the zone, and type, such as "www A"
	Name  string `json:"name"`
	Value string `json:"value"`
}

// ZoneView is a zone as it is shown.
type ZoneView struct {
	Name        dnsname.Name    `json:"name"`
	Description string          `json:"description"`
	Registrar   string          `json:"registrar"`
	ManagedBy   string          `json:"managed_by"` // the definition file that says what it contains; empty for none
	Detached    bool            `json:"detached"`
	Ignore      []string        `json:"ignore"` // patterns of sets that another system manages
	Settings    ZoneSettings    `json:"settings"`
	Drafted     int             `json:"drafted"` // edits in its draft
	Revision    *Revision       `json:"revision"`
	Placements  []ZonePlacement `json:"placements"`
	// Parent is the zone that is managed here and in which this one is delegated; empty for none. Only where one zone is shown.
	Parent string `json:"parent,omitempty"`
	// Nameservers is the desired nameservers. Only where one zone is shown.
	Nameservers []dnsname.Name `json:"nameservers,omitempty"`
	// DS is the DS set that fits the keys that the nameservers serve, by the last check. Only where one zone is shown.
	DS []record.Data `json:"ds,omitempty"`
	// DefaultSOA is the fields of the SOA record that the service desires for zones which have none of their own. Only where one zone is shown.
	DefaultSOA SOA `json:"default_soa,omitzero"`
	// Children is the names that are delegated in this zone by their own zones. Only where one zone is shown.
	Children []dnsname.Name `json:"children,omitempty"`
}

// ZonePlacement is a zone's placement as it is shown.
type ZonePlacement struct {
	Account     string         `json:"account"`
	ID          string         `json:"id"`   // how the provider names the zone; empty before it exists there
	Made        bool           `json:"made"` // the zone exists at the provider
	Nameservers []dnsname.Name `json:"nameservers"`
	LastSync    *SyncView      `json:"last_sync"`
}

// Import is a zone file that is to become what a zone should contain.
type Import struct {
	Zone   dnsname.Name `json:"-"`    // the path names it
	File   string       `json:"file"` // its name, for faults and for the record of where it came from
	Text   string       `json:"text" required:"true"`
	Reason string       `json:"reason"`
	DryRun bool         `json:"dry_run"`

	// Partial accepts a list of records: a text without SOA or apex NS records.
	Partial bool `json:"partial"`
}

// MostImported is how many records of each list an import shows.
const MostImported = 5000

// ImportCounts are the lengths of the lists of an import, of which only the beginning may be shown.
type ImportCounts struct {
	Added   int `json:"added"`
	Removed int `json:"removed"`
}

// LeftOut is a record of an imported file that is not taken over, and why.
type LeftOut struct {
	Record record.Record `json:"record"`
	Why    string        `json:"reason"`
}

// Imported returns what an import does, or did.
type Imported struct {
	Zone     dnsname.Name    `json:"zone"`
	Added    []record.Record `json:"added"`   // MostImported of them at most
	Removed  []record.Record `json:"removed"` // MostImported of them at most
	Same     int             `json:"same"`
	Counts   ImportCounts    `json:"counts"`
	LeftOut  []LeftOut       `json:"left_out"`
	Findings []rules.Found   `json:"findings"` // what the rules say of the zone
	Revision *Revision       `json:"revision"` // nil in a dry run
}
