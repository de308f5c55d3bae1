// Package arrival judges whether the sites of a domain can be reached by everybody who asks for them, and whether a
// certificate can be had for them.
//
// It is pure: evidence of names (Site), of connections (Contact), of certificates and of CAA records goes in, a Report comes out.
package arrival

import (
	"net/netip"
	"time"

	"beacon/core/finding"
)

// Site is one name that carries a site, and what was seen of it.
type Site struct {
	Name     string      `json:"name"`
	Answers  []Answer    `json:"answers"`  // by who was asked: nameservers in force, wanted ones, resolvers
	Contacts []Contact   `json:"contacts"` // by address and port
	CAA      []CAA       `json:"caa,omitempty"`
	CAAAt    string      `json:"caa_at,omitempty"` // the name at which they stand (RFC 8659 section 3)
	CAAError string      `json:"caa_error,omitempty"`
	Redirect []string    `json:"redirect,omitempty"` // where http leads, step by step
	Final    int         `json:"final,omitempty"`    // the status at the end of it
	Problem  string      `json:"problem,omitempty"`  // why following it ended early
}

// Answer is the addresses that one of those who were asked gives for a site.
type Answer struct {
	Who       string       `json:"who"`  // a nameserver with its address, or a resolver's name
	Kind      string       `json:"kind"` // "parent", "nameserver", "wanted" or "resolver"
	Addresses []netip.Addr `json:"addresses,omitempty"`
	Problem   string       `json:"problem,omitempty"`
}

// Contact is one connection to one address.
type Contact struct {
	Address netip.AddrPort `json:"address"`
	Secure  bool           `json:"secure"` // over TLS
	Took    float64        `json:"took"`   // milliseconds, until connected
	Status  int            `json:"status,omitempty"`
	Leads   string         `json:"leads,omitempty"` // where a redirect leads
	Cert    *Cert          `json:"cert,omitempty"`
	Problem string         `json:"problem,omitempty"` // why there was no answer
}

// Cert is what matters of the certificate that a host shows.
type Cert struct {
	Names     []string  `json:"names"`
	Issuer    string    `json:"issuer"` // the organisation, or else the common name
	From      time.Time `json:"from"`
	Until     time.Time `json:"until"`
	Untrusted string    `json:"untrusted,omitempty"` // why no chain leads to an authority that is trusted
}

// CAA is one record that says who may issue (RFC 8659 section 4).
type CAA struct {
	Critical bool   `json:"critical"`
	Tag      string `json:"tag"`
	Value    string `json:"value"`
}

// Plan is what sites are held against.
type Plan struct {
	Host      []netip.Addr // where the sites shall be; empty where nothing particular is wanted
	Authority string       // who shall issue, as a CAA record names it, such as ca.example; empty: anybody
}

// Readiness says whether a certificate could be issued now.
type Readiness struct {
	Way   string   `json:"way"` // "http" or "dns"
	Ready bool     `json:"ready"`
	Why   []string `json:"why,omitempty"` // what is in the way, where it is not
}

// Report is whether the sites of a domain can be reached.
type Report struct {
	CheckedAt time.Time         `json:"checked_at"` // wall time: certificates know no other
	Sites     []Site            `json:"sites"`
	Ready     []Readiness       `json:"ready"`
	Findings  []finding.Finding `json:"findings"`
}
