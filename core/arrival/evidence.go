package arrival

import (
	"net/netip"
	"time"

	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

// Evidence is what was seen of a domain's sites.
type Evidence struct {
	Domain  dnsname.Name
	At      time.Time // simulated time
	Above   []string  // what is wrong above the domain; empty where every parent server names the desired nameservers
	Sites   []Site
	Issuers []Issuer // the authorities that certificates are asked of; empty where that is not known
	Writes  *Writes  // nil where it is not known at which nameservers records can be written
}

// Writes lists at which of the nameservers that the parents give we can write records.
type Writes struct {
	At     []dnsname.Name
	Not    []dnsname.Name
	Silent []dnsname.Name // those that do not answer for the zone at one address at least
}

// Site is a name that is a website, and what was seen of it.
type Site struct {
	Name      dnsname.Name
	Wanted    []netip.Addr // the addresses that it should have; empty where that is not known
	Servers   []Lead       // what the desired nameservers answer
	Resolvers []Lead
	CAA       []CAASet
	Contacts  []Contact
}

// Lead is where one server leads for a name.
type Lead struct {
	Who       string
	Addresses []netip.Addr // sorted; of both families
	Problem   string       // why it is not known
	Until     *time.Time   // of a resolver: by when what it holds expires
}

// CAASet is what one nameserver answers about CAA at one name, the site's or one above it.
type CAASet struct {
	Who     string
	Name    dnsname.Name
	Data    []record.Data
	Problem string
}

// Failure is why, in a word, a contact brought no answer.
type Failure string

// The failures.
const (
	Barred  Failure = "barred"   // this address may not be reached from here
	NoRoute Failure = "no-route" // this machine has no way into that network
	Closed  Failure = "closed"   // it refuses connections
	Mute    Failure = "silent"   // nothing came in time
	NoTLS   Failure = "tls"      // it answers, and no secure connection came about
	NoHTTP  Failure = "http"     // it answers, and not in HTTP
)

// Contact is what answered when a site was asked for its front page at one address, over http or https.
type Contact struct {
	Name        dnsname.Name `json:"name"`
	Address     netip.Addr   `json:"address"`
	Secure      bool         `json:"secure"` // https, and not http
	At          time.Time    `json:"at"`     // simulated time
	Took        float64      `json:"took"`   // milliseconds
	Status      int          `json:"status,omitempty"`
	Leads       string       `json:"leads,omitempty"` // the URL that it redirects to
	Certificate *Certificate `json:"certificate,omitempty"`
	Failure     Failure      `json:"failure,omitempty"`
	Problem     string       `json:"problem,omitempty"` // what happened, for reading
}

// Certificate is what matters of the certificate that a site showed.
type Certificate struct {
	Names        []string  `json:"names"`                  // DNS names that it is for
	Issuer       string    `json:"issuer"`                 // common name
	Organization string    `json:"organization,omitempty"` // of the issuer
	From         time.Time `json:"from"`
	Until        time.Time `json:"until"`
	Distrust     string    `json:"distrust,omitempty"` // why its chain leads to no authority that is trusted here; empty if it does
	Print        string    `json:"print"`              // SHA-256, to tell it from others
}

// Issuer is an authority that issues certificates.
type Issuer struct {
	Identity     string `yaml:"identity" json:"identity"`         // the domain that CAA records call it by
	Organization string `yaml:"organization" json:"organization"` // as its certificates name it
}

// State is how a site stands, in a word.
type State string

// The states of a site.
const (
	Settled     State = "settled" // every resolver that was asked returns its addresses, and it answers well
	Settling    State = "settling"
	NeedsAction State = "needs-action" // waiting will not fix it
	NoAddress   State = "no-address"   // the name has no address
	NotChecked  State = "not-checked"
)

// Report is the judgement.
type Report struct {
	Sites    []SiteView        `json:"websites"`
	Findings []finding.Finding `json:"findings"`
}

// SiteView is how one site stands.
type SiteView struct {
	Name     dnsname.Name  `json:"name"`
	State    State         `json:"state"`
	Leads    []AddressView `json:"leads"`            // every address that a server or resolver returns
	Behind   []Behind      `json:"behind,omitempty"` // resolvers that lead elsewhere than the nameservers
	Ends     string        `json:"ends,omitempty"`   // where a visitor of the name ends up
	OverHTTP Readiness     `json:"over_http"`        // would an authority that looks over HTTP issue a certificate?
	OverDNS  Readiness     `json:"over_dns"`         // could one that looks for a record be shown it?
}

// AddressView is one address of a site, with what answered there.
type AddressView struct {
	Address netip.Addr `json:"address"`
	Given   bool       `json:"given"`  // by the desired nameservers
	Wanted  *bool      `json:"wanted"` // by the definition; nil where that is not known
	HTTP    *Contact   `json:"http,omitempty"`
	HTTPS   *Contact   `json:"https,omitempty"`
}

// Behind is a resolver that leads to other addresses than the nameservers do.
type Behind struct {
	Who       string       `json:"who"`
	Addresses []netip.Addr `json:"addresses"`
	Until     *time.Time   `json:"until,omitempty"`
}

// Readiness reports whether a certificate could be had in one way.
type Readiness struct {
	Ready   bool     `json:"ready"`
	Unknown string   `json:"unknown,omitempty"` // why it cannot be told
	Lacks   []string `json:"lacks,omitempty"`   // what stands in the way
	Mind    []string `json:"mind,omitempty"`    // what may stand in the way for an authority that holds old answers
}
