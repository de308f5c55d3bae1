package evidence

import (
	"net/netip"
	"time"

	"beacon/core/arrival"
	"beacon/core/dnsname"
	"beacon/core/dnssec"
	"beacon/core/record"
)

// Version is the version of the form in which sweeps are stored and sent. It rises when a field changes its meaning or goes; a field that is
// added leaves it.
const Version = 1

// Server is one address of one nameserver.
type Server struct {
	Name    dnsname.Name `json:"name"`
	Address string       `json:"address"` // IP address and port
}

// Sweep is what one round of questions brought.
type Sweep struct {
	Version   int               `json:"version,omitempty"` // of this form; 0 where it was made before there were versions
	Domain    dnsname.Name      `json:"domain"`
	Began     time.Time         `json:"began"` // simulated time
	Ended     time.Time         `json:"ended"`
	Brief     bool              `json:"brief,omitempty"`   // only the delegation, SOA and NS were asked for
	Zone      dnsname.Name      `json:"zone"`              // the parent zone; zero where the walk did not get there
	Failure   string            `json:"failure,omitempty"` // why the walk failed; empty if it did not
	Broken    dnsname.Name      `json:"broken,omitzero"`   // the zone above that the failure lies with; zero where it may lie with the way there
	Parents   []ParentAnswer    `json:"parents"`
	Servers   []ServerAnswer    `json:"servers"` // every address of every nameserver that matters: active, wanted, old
	NoAddress []NameProblem     `json:"no_address,omitempty"`
	NoPrimary *NameProblem      `json:"no_primary,omitempty"` // the primary that the SOA record names, where it does not exist
	Resolvers []ResolverAnswer  `json:"resolvers"`
	Anchors   dnssec.Records    `json:"anchors,omitempty"`  // the trust anchors to begin from; none: signatures are not judged
	Chain     []dnssec.Link     `json:"chain,omitempty"`    // from the root to the parent zone
	Heard     []Heard           `json:"heard,omitempty"`    // raw responses
	Places    []Place           `json:"places,omitempty"`   // what was seen from elsewhere
	Sites     []dnsname.Name    `json:"sites,omitempty"`    // the names that were looked at as sites
	Beyond    []Beyond          `json:"beyond,omitempty"`   // where they lead out of the domain
	Contacts  []arrival.Contact `json:"contacts,omitempty"` // what answered there
	Asked     int               `json:"asked"`              // how many questions it took
}

// Heard is one answer as it came, in presentation form.
type Heard struct {
	Server
	At         time.Time `json:"at"`
	Asked      string    `json:"asked"` // name and type
	Over       string    `json:"over"`  // the transport
	Took       float64   `json:"took"`  // milliseconds
	Says       string    `json:"says"`  // response code and flags; empty where nothing came
	Answer     []string  `json:"answer,omitempty"`
	Authority  []string  `json:"authority,omitempty"`
	Additional []string  `json:"additional,omitempty"`
	Explained  []string  `json:"explained,omitempty"` // extended errors (RFC 8914)
	Problem    string    `json:"problem,omitempty"`
}

// Place is what another instance saw from where it stands.
type Place struct {
	Name      string           `json:"name"`
	Problem   string           `json:"problem,omitempty"` // why it could not be asked
	Parents   []ParentAnswer   `json:"parents,omitempty"`
	Servers   []ServerAnswer   `json:"servers,omitempty"`
	Resolvers []ResolverAnswer `json:"resolvers,omitempty"`
}

// Beyond is a name outside the domain that a site's name is an alias of, as its own nameservers answer it.
type Beyond struct {
	Name      dnsname.Name  `json:"name"`
	Addresses []netip.Addr  `json:"addresses,omitempty"` // sorted
	CAA       []record.Data `json:"caa,omitempty"`
	Problem   string        `json:"problem,omitempty"`
}

// Answer is what kind of answer came.
type Answer string

// The kinds of answers. Lame ones are told apart by Reason.
const (
	Referral Answer = "referral"  // to the domain
	Positive Answer = "answer"    // authoritative, with data
	NoData   Answer = "no data"   // the name exists, the type does not (RFC 2308 section 2.2)
	NoName   Answer = "no name"   // NXDOMAIN
	Lame     Answer = "lame"      // it answers, but not for this zone
	Silent   Answer = "no answer" // nothing usable came; Problem says what happened
)

// Reason is why, in a word, a server's answer for the zone is none.
type Reason string

// The reasons.
const (
	Refused          Reason = "refused"
	Failed           Reason = "servfail"
	NotAuthoritative Reason = "not-authoritative"
	Upward           Reason = "upward-referral" // it sends on to the root, or to another zone above
	NotThere         Reason = "no-such-name"    // it is authoritative for something above, and denies the zone
	OtherReason      Reason = "other"
)

// Glue is the addresses that come with a delegation for a nameserver's name, or that the zone itself has for it.
type Glue struct {
	Name      dnsname.Name `json:"name"`
	Addresses []netip.Addr `json:"addresses"` // sorted
	TTL       uint32       `json:"ttl"`       // the largest
}

// ParentAnswer is what one address of a parent's nameserver said about the delegation.
type ParentAnswer struct {
	Server
	At       time.Time      `json:"at"` // receipt, simulated time
	Answer   Answer         `json:"answer"`
	NS       []dnsname.Name `json:"ns,omitempty"`       // sorted
	TTL      uint32         `json:"ttl,omitempty"`      // of the NS set
	Negative uint32         `json:"negative,omitempty"` // negative TTL, where the answer is NoData or NoName
	Glue     []Glue         `json:"glue,omitempty"`
	Foreign  []Glue         `json:"foreign,omitempty"`   // addresses of nameservers outside the parent's zone, which are not its to give
	DS       dnssec.Records `json:"ds,omitempty"`        // the DS set with signatures, or the proof that there is none
	AskedDS  bool           `json:"asked_ds,omitempty"`  // it was asked for the DS set: where DS is empty, there is none
	ChildToo bool           `json:"child_too,omitempty"` // it is authoritative for the domain as well, and answered from there
	Problem  string         `json:"problem,omitempty"`
}

// SOA is what matters of a zone's SOA record.
type SOA struct {
	Primary  dnsname.Name `json:"primary"`
	Contact  dnsname.Name `json:"contact"`
	Serial   uint32       `json:"serial"`
	Refresh  uint32       `json:"refresh,omitempty"` // these three in seconds (RFC 1035 section 3.3.13)
	Retry    uint32       `json:"retry,omitempty"`
	Expire   uint32       `json:"expire,omitempty"`
	Negative uint32       `json:"negative"` // the lesser of its TTL and its MINIMUM field (RFC 2308 section 5)
}

// ServerAnswer is what one address of a nameserver said about the zone.
type ServerAnswer struct {
	Server
	At        time.Time      `json:"at"`
	Answer    Answer         `json:"answer"`           // Positive, Lame or Silent
	Reason    Reason         `json:"reason,omitempty"` // why it is lame
	SOA       SOA            `json:"soa"`
	NS        []dnsname.Name `json:"ns,omitempty"` // apex NS set, sorted
	NSTTL     uint32         `json:"ns_ttl,omitempty"`
	Sets      []Observed     `json:"sets,omitempty"`
	Hosts     []Glue         `json:"hosts,omitempty"`    // what the zone says of the nameservers within it
	Keys      dnssec.Records `json:"keys,omitempty"`     // its DNSKEY set with signatures
	Signed    dnssec.Records `json:"signed,omitempty"`   // SOA, NS and the watched sets, where they come with signatures
	Denied    *Denied        `json:"denied,omitempty"`   // what it said of a name that is not there
	Requests  dnssec.Records `json:"requests,omitempty"` // CDS, CDNSKEY and CSYNC records
	Took      time.Duration  `json:"took"`               // of its SOA answer
	NoUDP     bool           `json:"no_udp,omitempty"`   // it answers over TCP only
	NoTCP     string         `json:"no_tcp,omitempty"`   // why it does not answer over TCP (RFC 7766); empty if it does
	NoEDNS    bool           `json:"no_edns,omitempty"`
	Truncated []string       `json:"truncated,omitempty"` // questions whose answers do not fit over UDP
	Strange   string         `json:"strange,omitempty"`   // from which other address its answer came
	Recursive bool           `json:"recursive,omitempty"` // it resolves foreign names for anybody
	Transfers bool           `json:"transfers,omitempty"` // it gives the whole zone to anyone
	GivesNS   bool           `json:"gives_ns,omitempty"`  // its answers carry the apex NS set along, which caches then keep
	CAA       []Observed     `json:"caa,omitempty"`       // at the names of sites and above them, up to the apex
	Problem   string         `json:"problem,omitempty"`
}

// Denied is what a server said of a random name below the apex.
type Denied struct {
	Name      string         `json:"name"`
	Type      uint16         `json:"type"`
	Answer    Answer         `json:"answer"` // NoName, NoData; Positive where a wildcard answers
	Authority dnssec.Records `json:"authority,omitempty"`
}

// Observed is one record set as somebody answered it.
type Observed struct {
	Key    record.Key    `json:"key"`
	Answer Answer        `json:"answer"`
	Data   []record.Data `json:"data,omitempty"` // sorted; of the whole chain where a CNAME leads on
	TTL    uint32        `json:"ttl"`            // from a nameserver the worst of the chain, which caches may hold longest; from a resolver the least that remains
	Alias  bool          `json:"alias,omitempty"`
}

// ProblemKind is why, in a word, a name has no address.
type ProblemKind string

// The kinds of problems of a nameserver's name.
const (
	NameMissing   ProblemKind = "missing"    // it does not exist
	NameAlias     ProblemKind = "alias"      // it is a CNAME
	NameEmpty     ProblemKind = "no-address" // it exists, and has no address
	NameCircular  ProblemKind = "circular"   // its address can only be had from itself: glue is missing
	NameNotLooked ProblemKind = "not-looked" // looking it up failed
)

// NameProblem returns why a nameserver's name led to no address.
type NameProblem struct {
	Name    dnsname.Name `json:"name"`
	Kind    ProblemKind  `json:"kind"`
	Problem string       `json:"problem"`
}
