package dnssec

// State is how far an answer can be trusted (RFC 4033 section 5).
type State string

// The states. Of several, the worst counts: bogus, then indeterminate, then insecure.
const (
	Secure        State = "secure"        // a chain of signatures leads from an anchor to the answer
	Insecure      State = "insecure"      // it is proven that no chain leads there: nothing is signed, and nothing need be
	Bogus         State = "bogus"         // a chain should lead there and does not: validating resolvers refuse the answer
	Indeterminate State = "indeterminate" // it is not known: no anchor, or something could not be asked
)

// Kind is what, in a word, is wrong with a signature, a key or a proof.
type Kind string

// What can be wrong.
const (
	NoMatchingKey   Kind = "no-matching-key"   // no DNSKEY record fits any DS record
	KeysUnsigned    Kind = "keys-unsigned"     // no key that the DS records name has signed the DNSKEY set
	Unsigned        Kind = "unsigned"          // a set without signature in a signed zone
	SignatureWrong  Kind = "signature-wrong"   // the signature does not fit the data
	SignatureOver   Kind = "signature-expired" // its time is over
	SignatureEarly  Kind = "signature-early"   // its time has not begun
	SignerUnknown   Kind = "signer-unknown"    // it names a key that the zone does not publish
	DenialMissing   Kind = "denial-missing"    // an absence without the records that prove it
	DenialWrong     Kind = "denial-wrong"      // records that do not prove the absence
	NotAsked        Kind = "not-asked"         // the records could not be had
	NothingToVerify Kind = "unsupported"       // nothing but algorithms or digests that nobody verifies any more, or yet
	NoAnchor        Kind = "no-anchor"         // no trust anchor leads here
)

// Fault is one thing that is wrong.
type Fault struct {
	Kind   Kind   `json:"kind"`
	Zone   string `json:"zone"`   // whose signature, key or proof it is
	Detail string `json:"detail"` // what was seen, in a clause
}

func (f Fault) Error() string { return f.Detail }
