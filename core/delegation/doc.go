// Package delegation judges whether a domain is delegated as it should be and whether everybody can know it by now.
//
// It is pure: evidence (Sweep) and what earlier evidence established (History) go in, a Report and the next History
// come out. evidence.go says what was asked and answered; history.go remembers what has to be remembered between
// sweeps; bound.go computes when caches must have let go; judge.go puts the verdict together from the findings of
// parents.go, servers.go and resolvers.go.
//
// The rules of time are about caches that obey TTLs (RFC 1035, RFC 2181 section 8, RFC 2308). All times are world time.
package delegation

import (
	"slices"
	"strings"
	"time"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

// Verdict is the outcome of a check in one word.
type Verdict string

// Wrong beats settling beats settled; a check that failed is none of them.
const (
	Settled     Verdict = "settled"
	Settling    Verdict = "settling"
	Wrong       Verdict = "wrong"
	Undelegated Verdict = "undelegated"
	Unknown     Verdict = "unknown"
)

// Plan is what a domain is held against.
type Plan struct {
	Domain    dnsname.Name
	Wanted    []dnsname.Name // the nameservers it shall be delegated to, sorted; empty where nothing particular is wanted
	Registrar *Registration  // what the registrar says; nil where it is not known
}

// Registration is what a registrar holds of a domain.
type Registration struct {
	Account string         `json:"account"`
	Active  []dnsname.Name `json:"active"`            // in force
	Saved   []dnsname.Name `json:"saved"`             // stored, in force only once made active
	AskedAt time.Time      `json:"asked_at"`          // world time
	Problem string         `json:"problem,omitempty"` // why it could not be asked
}

// Report is the judgement of one sweep.
type Report struct {
	Domain    dnsname.Name      `json:"domain"`
	CheckedAt time.Time         `json:"checked_at"` // world time at the end of the sweep
	Verdict   Verdict           `json:"verdict"`
	SettlesBy *time.Time        `json:"settles_by"` // the bound: last of Moments; nil where nothing settles or no bound is known
	Likely    *time.Time        `json:"likely"`     // the estimate, as long as a resolver that was asked sees the old
	Moments   []Moment          `json:"moments"`
	Findings  []finding.Finding `json:"findings"`
	Wanted    []dnsname.Name    `json:"wanted"`
	Old       []dnsname.Name    `json:"old,omitempty"` // the set before, while that matters
	Registrar *Registration     `json:"registrar,omitempty"`
	Parents   []Source          `json:"parents"`
	Servers   []Source          `json:"servers"`
	Resolvers []View            `json:"resolvers"`
}

// Source is one server and the nameserver set that it gave.
type Source struct {
	Server
	Nameservers []dnsname.Name `json:"nameservers"`
	TTL         uint32         `json:"ttl"`
	Serial      *uint32        `json:"serial,omitempty"`
	Problem     string         `json:"problem,omitempty"`
}

// View is how one resolver sees the domain.
type View struct {
	Name    string     `json:"name"`
	Address string     `json:"address"`
	Sees    string     `json:"sees"`            // "new", "old", "current", "other" or "unknown"
	Through string     `json:"through"`         // primary nameserver of the SOA it answers with; empty where unknown
	Until   *time.Time `json:"until,omitempty"` // by when it must have let go, where it sees the old
	Answers []Observed `json:"answers,omitempty"`
	Problem string     `json:"problem,omitempty"`
	AskedAt time.Time  `json:"asked_at"`
}

// Moment is one thing that settles, and by when.
type Moment struct {
	What    string    `json:"what"`    // "delegation" or "content"
	Subject string    `json:"subject"` // the domain or the record set
	Since   time.Time `json:"since"`   // when the change was first seen everywhere it was made
	By      time.Time `json:"by"`      // the bound: every cache that obeys TTLs has let go by then
	Likely  time.Time `json:"likely"`  // the estimate: by then those have that follow the parents, as most do
	Why     string    `json:"why"`     // the sum behind it
}

// SameSet reports whether two sorted nameserver sets are equal.
func SameSet(a, b []dnsname.Name) bool { return slices.Equal(a, b) }

// missing gives the names of a that b lacks.
func missing(a, b []dnsname.Name) []dnsname.Name {
	var out []dnsname.Name
	for _, n := range a {
		if !slices.Contains(b, n) {
			out = append(out, n)
		}
	}
	return out
}

func joinNames(names []dnsname.Name) string {
	texts := make([]string, len(names))
	for i, n := range names {
		texts[i] = strings.TrimSuffix(n.String(), ".")
	}
	return strings.Join(texts, ", ")
}

// Watched gives the record sets that a check looks at by default: those that carry a site.
func Watched(domain dnsname.Name) []record.Key {
	www, err := domain.Child("www")
	if err != nil {
		return []record.Key{{Name: domain, Type: record.A}}
	}
	return []record.Key{{Name: domain, Type: record.A}, {Name: www, Type: record.A}}
}
