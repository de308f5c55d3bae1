package gather

import (
	"beacon/core/dnsname"
	"beacon/core/record"
)

// Kind is a way of learning what a zone contains.
type Kind string

// The ways, the surest first.
const (
	FromAccount  Kind = "account"
	FromTransfer Kind = "transfer" // RFC 5936
	FromWalk     Kind = "walk"     // along the NSEC chain (RFC 4034 section 4)
	FromFile     Kind = "file"
	FromAsking   Kind = "asking"
)

// Claim is how complete a source is.
type Claim string

// The claims. Only Complete promises that nothing is missing.
const (
	Complete Claim = "complete"
	Partial  Claim = "partial" // something is known to be missing
	Unknown  Claim = "unknown" // nobody can tell
	Failed   Claim = "failed"  // it brought nothing
)

// Source is what one way of looking found.
type Source struct {
	Kind     Kind
	Name     string // the account, the nameserver or the file
	Contents record.Contents
	Claim    Claim
	Why      string // what the claim rests on
	Doubts   []Doubt
	Asked    int // questions to nameservers
}

// DoubtKind is why a user has to decide about a record set.
type DoubtKind string

// The kinds of doubts. The first six are answers that no record need be behind, so that they are no data until a user says so.
const (
	Varies     DoubtKind = "varies"      // the same question is answered with other data
	ByPlace    DoubtKind = "by-place"    // the answer depends on where a visitor is
	CountsDown DoubtKind = "counts-down" // its TTL counts down, so that the provider looks the answer up elsewhere: an alias
	EveryName  DoubtKind = "every-name"  // every name gets an answer, and no wildcard record is behind it
	Relayed    DoubtKind = "relayed"     // the account has other data than visitors get
	ChildZone  DoubtKind = "child-zone"  // a zone of its own on the same nameservers, of which it is not known whether it is delegated
	OnlyIn     DoubtKind = "only-in"     // a lesser source has it, the one that is complete does not
	Differs    DoubtKind = "differs"     // a lesser source has other data
)

// Open reports whether a user has to decide before records are accepted. The others are left out, or kept as the surest source has them, until a user says otherwise.
func (k DoubtKind) Open() bool {
	return k == Varies || k == ByPlace || k == CountsDown || k == EveryName || k == ChildZone
}

// Doubt is a record set about which a user has to decide.
type Doubt struct {
	Key  record.Key
	Kind DoubtKind
	TTL  uint32        // seconds
	Data []record.Data // what was seen; for ChildZone its NS set
	From string        // the source that has it
}

// plumbing are types that belong to the provider that serves a zone, wherever they are.
var plumbing = map[record.Type]bool{46: true, 47: true, 50: true, 51: true, 59: true, 60: true, 62: true, 63: true, record.DNSKEY: true} // RRSIG, NSEC, NSEC3, NSEC3PARAM, CDS, CDNSKEY, CSYNC, ZONEMD

// Plumbing reports whether a record set belongs to the provider that serves the zone, and stays behind when the domain moves: SOA and apex NS, and what signing makes.
func Plumbing(zone dnsname.Name, k record.Key) bool {
	return k.Name == zone && (k.Type == record.SOA || k.Type == record.NS) || plumbing[k.Type]
}
