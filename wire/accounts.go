package wire

import (
	"time"

	"beacon/core/change"
	"beacon/core/dnsname"
	"beacon/core/finding"
)

// Account is the stored connection to one provider or registrar. It holds nothing of its credential.
type Account struct {
	Name      string     `json:"name"`
	Role      string     `json:"role"` // "provider" or "registrar"
	Kind      string     `json:"kind"` // which driver
	Address   string     `json:"address"`
	CreatedAt time.Time  `json:"created_at"`
	UsedAt    *time.Time `json:"used_at"`    // last request, real time
	RotatedAt *time.Time `json:"rotated_at"` // when it got another credential
	// Hosts are further addresses of the interface, by name.
	Hosts map[string]string `json:"hosts,omitempty"`
}

// Registration is one registered domain, as its registrar has it.
type Registration struct {
	Name    dnsname.Name   `json:"name"`
	Saved   []dnsname.Name `json:"saved"`            // stored list, sorted
	Active  []dnsname.Name `json:"active"`           // active list, sorted
	Expires time.Time      `json:"expires"`          // zero where the registrar does not return it
	Status  []string       `json:"status,omitempty"` // in the words of RFC 8056, such as "client hold"; empty where the registrar does not return it
	Managed bool           `json:"managed"`          // its zone is managed here
}

// Verified is one check of a conformance run.
type Verified struct {
	Check   string        `json:"check"`
	Outcome string        `json:"outcome"`          // "passed", "failed" or "not applicable"
	Detail  string        `json:"detail,omitempty"` // why it failed or does not apply
	Took    time.Duration `json:"took"`             // nanoseconds
}

// The roles of accounts.
const (
	RoleProvider  = "provider"
	RoleRegistrar = "registrar"
)

// NewAccount is what is needed to connect an account.
type NewAccount struct {
	Name    string `json:"name" required:"true"`
	Role    string `json:"role"` // provider or registrar
	Kind    string `json:"kind" required:"true"`
	Address string `json:"address" required:"true"` // base address of the interface
	Secret  string `json:"secret,omitempty"`
	// Parts is the credential where the kind has one of several parts, by name; Secret is left out then.
	Parts map[string]string `json:"parts,omitempty"`
	Hosts map[string]string `json:"hosts,omitempty"` // further addresses that the kind asks for, by name
}

// CredentialPart is a part of the credentials of a kind of accounts, or a further address.
type CredentialPart struct {
	Name  string `json:"name"`
	About string `json:"description"`
}

// Tried is what showed when a credential was tried.
type Tried struct {
	Seen     int               `json:"seen"`     // zones or domains that it sees; -1 where the interface does not list them
	Rights   []string          `json:"rights"`   // what it may do; empty where the interface does not tell
	Findings []finding.Finding `json:"findings"` // it may more than is needed, or less
}

// AccountView is an account as it is shown. It holds nothing of its credential.
type AccountView struct {
	Account
	About    string            `json:"kind_description"` // what its kind is
	Rights   []string          `json:"rights"`
	Findings []finding.Finding `json:"findings"`
	Zones    int               `json:"zones"`    // placed there
	Troubled int               `json:"troubled"` // of them drifted or unreachable
	Caps     *change.Caps      `json:"caps"`     // as its profile says; empty where it differs by zone
	// Registrar is what the registrar is like; empty for a provider.
	Registrar *RegistrarCaps `json:"registrar_caps,omitempty"`
}

// RegistrarCaps is what a registrar is like.
type RegistrarCaps struct {
	Activation bool   `json:"activation"` // a saved list is active only once it is activated
	Delayed    bool   `json:"delayed"`    // the registrar accepts a change and does it later
	Least      int    `json:"min_names"`  // nameservers in a list; 0 where that is not known
	Most       int    `json:"max_names"`  // nameservers in a list; 0 where that is not known
	FinalDot   string `json:"final_dot"`  // "required" or "refused" in names; empty where both are taken
	Again      bool   `json:"again"`      // each change repeats a part of the credential
	Hosts      bool   `json:"hosts"`      // it takes host objects: addresses of nameservers within the domain
	DS         string `json:"ds"`         // "digests" or "keys"; empty where it takes no DS records
	Locks      bool   `json:"locks"`      // its own locks can be set and lifted
}

// RemoteZone is a zone as a provider account lists it.
type RemoteZone struct {
	Name        dnsname.Name   `json:"name"`
	ID          string         `json:"id"`
	Nameservers []dnsname.Name `json:"nameservers"`
}

// Kind is a kind of account.
type Kind struct {
	Name  string       `json:"name"`
	Role  string       `json:"role"` // "provider" or "registrar"
	About string       `json:"description"`
	Caps  *change.Caps `json:"caps"` // as its profile says; empty where it differs by zone
	// Parts are the parts of the credential; none where it is one text.
	Parts []CredentialPart `json:"parts"`
	// Hosts are further addresses that an account names, such as where tokens are issued; none for most kinds.
	Hosts []CredentialPart `json:"hosts"`
	// Registrar is what the registrar is like; empty for a provider.
	Registrar *RegistrarCaps `json:"registrar_caps,omitempty"`
}

type AccountAdded struct {
	Name string `json:"name"`
	Tried
}

type NewCredential struct {
	Role   string            `json:"role"` // provider or registrar
	Secret string            `json:"secret,omitempty"`
	Parts  map[string]string `json:"parts,omitempty"` // the credential where the kind has one of several parts, by name
}

// Verification asks for a conformance run.
type Verification struct {
	Role   string       `json:"role"`             // provider or registrar
	Zone   dnsname.Name `json:"zone,omitempty"`   // a scratch zone, at a provider
	Domain dnsname.Name `json:"domain,omitempty"` // a domain that may be changed for a while, at a registrar
	// Nameservers is the list to try with at a registrar.
	Nameservers []string `json:"nameservers,omitempty"`
}

// VerificationRun is a conformance run. It goes on in the background.
type VerificationRun struct {
	ID         uint64       `json:"id"`
	Account    string       `json:"account"`
	Subject    dnsname.Name `json:"subject"`           // the scratch zone, or the domain
	State      string       `json:"state"`             // pending, running, done or failed
	Of         int          `json:"of"`                // how many checks there are; 0 before the first
	Failed     int          `json:"failed"`            // how many failed so far
	Checks     []Verified   `json:"checks"`            // those that are made
	Cause      string       `json:"cause,omitempty"`   // the check that failed first, and that others need
	Problem    string       `json:"problem,omitempty"` // why the run ended before its end
	CreatedAt  time.Time    `json:"created_at"`
	FinishedAt *time.Time   `json:"finished_at"`
}
