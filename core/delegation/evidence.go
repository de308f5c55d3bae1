package delegation

import (
	"time"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// Server is one address of one nameserver.
type Server struct {
	Name    dnsname.Name `json:"name"`
	Address string       `json:"address"` // IP address and port
}

// Sweep is what one round of questions brought.
type Sweep struct {
	Domain    dnsname.Name     `json:"domain"`
	Began     time.Time        `json:"began"` // world time
	Ended     time.Time        `json:"ended"`
	Zone      dnsname.Name     `json:"zone"`              // the parent zone; zero where the walk did not get there
	Failure   string           `json:"failure,omitempty"` // why the walk failed; empty if it did not
	Parents   []ParentAnswer   `json:"parents"`
	Servers   []ServerAnswer   `json:"servers"` // every address of every nameserver that matters: in force, wanted, old
	NoAddress []NameProblem    `json:"no_address,omitempty"`
	Resolvers []ResolverAnswer `json:"resolvers"`
}

// Answer is what kind of answer came.
type Answer string

// The kinds of answers. Lame ones are told apart by LameReason.
const (
	Referral Answer = "referral"  // to the domain
	Positive Answer = "answer"    // authoritative, with data
	NoData   Answer = "no data"   // the name exists, the type does not (RFC 2308 section 2.2)
	NoName   Answer = "no name"   // NXDOMAIN
	Lame     Answer = "lame"      // it answers, but not for this zone
	Silent   Answer = "no answer" // nothing usable came; Problem says what happened
)

// ParentAnswer is what one address of a parent's nameserver said about the delegation.
type ParentAnswer struct {
	Server
	At       time.Time      `json:"at"` // receipt, world time
	Answer   Answer         `json:"answer"`
	NS       []dnsname.Name `json:"ns,omitempty"`       // sorted
	TTL      uint32         `json:"ttl,omitempty"`      // of the NS set
	Negative uint32         `json:"negative,omitempty"` // negative TTL, where the answer is NoData or NoName
	Problem  string         `json:"problem,omitempty"`
}

// SOA is what matters of a zone's SOA record.
type SOA struct {
	Primary  dnsname.Name `json:"primary"`
	Contact  dnsname.Name `json:"contact"`
	Serial   uint32       `json:"serial"`
	Negative uint32       `json:"negative"` // the lesser of its TTL and its MINIMUM field (RFC 2308 section 5)
}

// ServerAnswer is what one address of a nameserver said about the zone.
type ServerAnswer struct {
	Server
	At      time.Time      `json:"at"`
	Answer  Answer         `json:"answer"` // Positive, Lame or Silent
	SOA     SOA            `json:"soa"`
	NS      []dnsname.Name `json:"ns,omitempty"` // apex NS set, sorted
	NSTTL   uint32         `json:"ns_ttl,omitempty"`
	Sets    []Observed     `json:"sets,omitempty"`
	NoTCP   string         `json:"no_tcp,omitempty"` // why it does not answer over TCP (RFC 7766); empty if it does
	Problem string         `json:"problem,omitempty"`
}

// Observed is one record set as somebody answered it.
type Observed struct {
	Key    record.Key    `json:"key"`
	Answer Answer        `json:"answer"`
	Data   []record.Data `json:"data,omitempty"` // sorted; of the whole chain where a CNAME leads on
	TTL    uint32        `json:"ttl"`            // least of the chain; remaining where a resolver answered
}

// NameProblem says why a nameserver's name led to no address.
type NameProblem struct {
	Name    dnsname.Name `json:"name"`
	Problem string       `json:"problem"`
}

// ResolverAnswer is what a caching resolver said. It is asked for a random name of a private type, whose negative
// answer carries the SOA of the zone as the resolver reaches it, and for the watched sets; never for NS.
type ResolverAnswer struct {
	Name    string     `json:"name"`
	Address string     `json:"address"`
	At      time.Time  `json:"at"`
	SOA     *SOA       `json:"soa,omitempty"` // nil where it could not be told
	Sets    []Observed `json:"sets,omitempty"`
	Problem string     `json:"problem,omitempty"`
}
