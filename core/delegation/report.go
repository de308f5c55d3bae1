package delegation

import (
	"net/netip"
	"slices"
	"time"

	"beacon/core/arrival"
	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/evidence"
	"beacon/core/finding"
	"beacon/core/record"
)

// Verdict is the outcome of a check in one word.
type Verdict string

// NeedsAction beats ready to move beats settling beats settled; a check that failed is none of them. A domain is ready to move while its
// parents agree on a set that works and is not the desired one, and no change to the desired set has begun.
const (
	Settled     Verdict = "settled"
	Settling    Verdict = "settling"
	ReadyToMove Verdict = "ready-to-move"
	NeedsAction Verdict = "needs-action"
	Undelegated Verdict = "undelegated"
	Unknown     Verdict = "unknown"
)

// Words returns the verdict as people read it.
func (v Verdict) Words() string {
	switch v {
	case ReadyToMove:
		return "ready to move"
	case NeedsAction:
		return "needs action"
	case Undelegated:
		return "not delegated"
	case Unknown:
		return "check failed"
	case "":
		return "not checked yet"
	}
	return string(v)
}

// Plan is what a domain is held against.
type Plan struct {
	Domain    dnsname.Name
	Wanted    []dnsname.Name // the desired nameservers, sorted; empty for none
	Begun     bool           // a change to the desired nameservers has begun
	Registrar *Registration  // what the registrar says; nil where it is not known
	TTL       uint32         // of NS sets, as the zone's plan has it, seconds; 0 where nothing is planned
	Sites     []SitePlan     // the addresses that websites should have; a name that is missing may have any
	Issuers   []arrival.Issuer
	Writable  []dnsname.Name // the nameservers that give what we write; nil where that is not known
}

// SitePlan returns where a site shall lead.
type SitePlan struct {
	Name      dnsname.Name
	Addresses []netip.Addr // sorted
}

// Registration is what a registrar holds of a domain.
type Registration struct {
	Account string         `json:"account"`
	Active  []dnsname.Name `json:"active"`            // active
	Saved   []dnsname.Name `json:"saved"`             // stored, active only once made active
	AskedAt time.Time      `json:"asked_at"`          // simulated time
	Status  []string       `json:"status,omitempty"`  // in the words of RFC 8056, such as "client hold"
	Expires *time.Time     `json:"expires,omitempty"` // when the registration ends
	From    string         `json:"from,omitempty"`    // where status and end come from: "registrar" or "RDAP"
	Problem string         `json:"problem,omitempty"` // why it could not be asked
	// Reasons is why a status is set, by status, where the registrar says it.
	Reasons map[string]string `json:"reasons,omitempty"`
	// Hosts is the host objects at the registrar: nameservers within the domain, whose addresses the parent serves as glue.
	Hosts []HostObject `json:"hosts,omitempty"`
	// DS is the DS set at the registrar, where its interface shows it.
	DS []record.Data `json:"ds,omitempty"`
	// Keys is the DNSKEY data that it has in place of DS records, where it takes those.
	Keys []record.Data `json:"keys,omitempty"`
	// Pending is what the registrar accepted and has not done yet, in its words.
	Pending []string `json:"pending,omitempty"`
	// Listed is the nameservers that RDAP lists. It may be behind what the parents serve, so nothing is judged by it.
	Listed []dnsname.Name `json:"listed,omitempty"`
}

// HostObject is a nameserver within a domain, with the addresses that its parent serves.
type HostObject struct {
	Name      dnsname.Name `json:"name"`
	Addresses []netip.Addr `json:"addresses"` // sorted
}

// Report is the judgement of one sweep.
type Report struct {
	Domain    dnsname.Name      `json:"domain"`
	CheckedAt time.Time         `json:"checked_at"` // simulated time at the end of the sweep
	Verdict   Verdict           `json:"verdict"`
	SettlesBy *time.Time        `json:"settles_by"`   // the bound: last of Moments; nil where nothing settles or no bound is known
	Likely    *time.Time        `json:"likely"`       // the estimate, as long as a resolver that was asked sees the old
	DNSSEC    dnssec.State      `json:"dnssec"`       // whether a chain of signatures leads from the root's anchor to the domain
	DS        []record.Data     `json:"ds,omitempty"` // the DS set that fits the keys that the nameservers serve; empty where the zone is not signed
	Moments   []Moment          `json:"moments"`
	Findings  []finding.Finding `json:"findings"`
	Wanted    []dnsname.Name    `json:"wanted"`
	Old       []dnsname.Name    `json:"old,omitempty"` // the set before, while that matters
	Registrar *Registration     `json:"registrar,omitempty"`
	Parents   []Source          `json:"parents"`
	Servers   []Source          `json:"servers"`
	Resolvers []View            `json:"resolvers"`
	Places    []PlaceView       `json:"places,omitempty"`  // how it looks from elsewhere
	Arrival   *arrival.Report   `json:"arrival,omitempty"` // how its sites stand; nil where they were not looked at
}

// PlaceView is how a domain looks from where another instance stands.
type PlaceView struct {
	Name    string   `json:"name"`
	Problem string   `json:"problem,omitempty"`
	Parents []Source `json:"parents,omitempty"`
	Servers []Source `json:"servers,omitempty"`
	Views   []View   `json:"resolvers,omitempty"`
}

// Source is one server and the nameserver set that it gave.
type Source struct {
	evidence.Server
	Nameservers []dnsname.Name `json:"nameservers"`
	TTL         uint32         `json:"ttl"`
	Serial      *uint32        `json:"serial,omitempty"`
	Took        float64        `json:"took,omitempty"`   // milliseconds
	Signed      bool           `json:"signed,omitempty"` // the zone it gives has keys; of a parent: there are DS records
	Problem     string         `json:"problem,omitempty"`
}

// View is how one resolver sees the domain.
type View struct {
	Name      string     `json:"name"`
	Address   string     `json:"address"`
	Sees      string     `json:"sees"` // "new", "old", "current", "other" or "unknown"
	Group     string     `json:"group,omitempty"`
	Through   string     `json:"through"`          // primary nameserver of the SOA it answers with; empty where unknown
	Until     *time.Time `json:"until,omitempty"`  // by when the old answer expires there
	Sets      []SetView  `json:"sets"`             // how it sees each watched set
	Follow    *Following `json:"follow,omitempty"` // how it came over in the change that was last, predicted and as it happened
	Explained []string   `json:"explained,omitempty"`
	Problem   string     `json:"problem,omitempty"`
	AskedAt   time.Time  `json:"asked_at"`
}

// SetView is how one resolver sees one record set.
type SetView struct {
	Key   record.Key    `json:"key"`
	Sees  string        `json:"sees"` // "new", "old", "mixed", "current", "other", "none" or "unknown"
	Data  []record.Data `json:"data,omitempty"`
	TTL   uint32        `json:"ttl"`             // that remains
	Until *time.Time    `json:"until,omitempty"` // by when the old answer expires there
}

// Following is how a resolver followed a change: what was predicted, and what was seen.
type Following struct {
	LastOld   *time.Time `json:"last_old,omitempty"`  // when it was last seen with the old
	FirstNew  *time.Time `json:"first_new,omitempty"` // when it was first seen with the new, and with nothing old since
	Predicted *time.Time `json:"predicted,omitempty"` // the estimate as of when it was last seen with the old
	Marks     []Mark     `json:"marks,omitempty"`     // what it was seen with, whenever that changed
}

// Mark is what a resolver was seen with from a moment on.
type Mark struct {
	At   time.Time `json:"at"`
	Sees string    `json:"sees"` // "old": it goes to the old nameservers; "held": to the new ones, and holds an old answer; "mixed", "new", "silent" or "unknown"
}

// Moment is one thing that settles, and by when.
type Moment struct {
	What    string    `json:"what"`             // "delegation", "content", "address" or "dnssec"
	Subject string    `json:"subject"`          // the domain or the record set
	Since   time.Time `json:"since"`            // when the change was first seen everywhere it was made
	By      time.Time `json:"by"`               // the bound: the old answer has expired from every cache that keeps to TTLs by then
	Likely  time.Time `json:"likely"`           // the estimate: by then those have that follow the parents, as most do
	Why     string    `json:"why"`              // the sum behind it
	Except  string    `json:"except,omitempty"` // for which caches there is no bound, and what ends that; empty where it holds for all
}

// SameSet reports whether two sorted nameserver sets are equal.
func SameSet(a, b []dnsname.Name) bool { return slices.Equal(a, b) }

// missing returns the names of a that b lacks.
func missing(a, b []dnsname.Name) []dnsname.Name {
	var out []dnsname.Name
	for _, n := range a {
		if !slices.Contains(b, n) {
			out = append(out, n)
		}
	}
	return out
}

// Watched returns the record sets that a check looks at: the addresses of the domain's sites, or where there is none of the names
// that usually carry one.
func Watched(domain dnsname.Name, sites []dnsname.Name) []record.Key {
	if len(sites) == 0 {
		sites = Sites(domain)
	}
	keys := make([]record.Key, 0, 2*len(sites))
	for _, name := range sites {
		keys = append(keys, record.Key{Name: name, Type: record.A}, record.Key{Name: name, Type: record.AAAA})
	}
	return keys
}
