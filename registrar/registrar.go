// Package registrar is the contract of a domain registrar: what the service asks of the company that holds a registration, and
// what every driver promises. conform holds the run that each driver must pass.
//
// As with DNS providers, a driver knows one outside interface and nothing of ours, and reports each failure as an *outcall.Error.
package registrar

import (
	"context"
	"fmt"
	"time"

	"beacon/core/delegation"
	"beacon/core/dnsname"
	"beacon/core/record"
)

// Driver is one account at one registrar. It is safe for concurrent use.
type Driver interface {
	// Domains lists the account's registrations, from the beginning for the empty cursor. They may have fewer details than Look returns.
	Domains(ctx context.Context, cursor Cursor) (Page, error)
	// Look returns one registration, with all that the interface knows of it.
	Look(ctx context.Context, name dnsname.Name) (Registration, error)
	// Apply makes one change. A receipt that is not done names an operation that the registrar does later.
	Apply(ctx context.Context, name dnsname.Name, c Change) (Receipt, error)
	// Poll returns what became of an operation. It returns an error of kind Refused where it failed and nothing of it was done.
	Poll(ctx context.Context, name dnsname.Name, r Receipt) (Receipt, error)
	// Caps returns what the registrar is like. It makes no request.
	Caps() Caps
}

// Caps is what a registrar is like.
type Caps struct {
	Activation bool   `json:"activation"` // a saved list is active only once it is activated
	Delayed    bool   `json:"delayed"`    // operations may be done later
	Least      int    `json:"min_names"`  // nameservers in a list; 0 where it is not known
	Most       int    `json:"max_names"`
	FinalDot   string `json:"final_dot"` // "required" or "refused" in names; empty where both are taken
	Again      bool   `json:"again"`     // each change repeats a part of the credential, such as a password
	Hosts      bool   `json:"hosts"`     // it takes host objects: addresses of nameservers within the domain (RFC 5732)
	DS         DSForm `json:"ds"`        // how it takes the DS set
	Locks      bool   `json:"locks"`     // its own locks can be set and lifted
}

// DSForm is how a registrar takes what becomes the DS set at the parent (RFC 5910 section 4).
type DSForm string

// Some registrars take DS records, others the DNSKEY records that they compute them from, and some take nothing.
const (
	NoDS    DSForm = ""
	Digests DSForm = "digests"
	Keys    DSForm = "keys"
)

// Cursor is a place in a list, as the registrar returned it; empty for the beginning, and behind the end.
type Cursor string

// Registration is one registered domain.
type Registration struct {
	Name    dnsname.Name      `json:"name"`
	Saved   []dnsname.Name    `json:"saved"`             // stored list, sorted
	Active  []dnsname.Name    `json:"active"`            // list active, sorted
	Expires time.Time         `json:"expires"`           // zero where the interface does not say it
	Status  []string          `json:"status,omitempty"`  // in the words of RFC 8056, such as "client hold"
	Reasons map[string]string `json:"reasons,omitempty"` // why a status is set, by status, where the interface says it
	Hosts   []Host            `json:"hosts,omitempty"`   // sorted by name
	DS      []record.Data     `json:"ds,omitempty"`      // with Caps.DS Digests; sorted
	Keys    []record.Data     `json:"keys,omitempty"`    // DNSKEY data, with Caps.DS Keys; sorted
	Pending []Operation       `json:"pending,omitempty"` // accepted, and not done yet
}

// Host is a host object: a nameserver within the domain, whose addresses the parent serves as glue (RFC 9471).
type Host = delegation.HostObject

// Operation is a change that a registrar accepted and does later.
type Operation struct {
	ID   string `json:"id"`
	What string `json:"what"` // the registrar's words
}

// Page is one page of registrations.
type Page struct {
	Registrations []Registration
	Next          Cursor
}

// Verb is what a change does.
type Verb string

// The changes. Lists and sets are always given whole.
const (
	Save       Verb = "save"        // store Nameservers; active immediately where nothing needs activation
	Activate   Verb = "activate"    // make the stored list active; nothing changes where it is
	PutHost    Verb = "put-host"    // make Host, or replace its addresses
	RemoveHost Verb = "remove-host" // remove the host object named Host.Name
	SetDS      Verb = "set-ds"      // replace the DS set by DS or Keys; none removes it
	Lock       Verb = "lock"        // set Status, such as "client update prohibited"
	Unlock     Verb = "unlock"      // lift it
)

// Change is one change of a registration.
type Change struct {
	Do          Verb           `json:"do"`
	Nameservers []dnsname.Name `json:"nameservers,omitempty"`
	Host        Host           `json:"host,omitzero"`
	DS          []record.Data  `json:"ds,omitempty"`
	Keys        []record.Data  `json:"keys,omitempty"`
	Status      string         `json:"status,omitempty"`
}

// Receipt is what a registrar returned for a change.
type Receipt struct {
	ID   string // to poll with; empty where the change is done
	Done bool
}

// Unfit returns why a registrar with these Caps cannot take a change, or nil.
func (c Caps) Unfit(change Change) error {
	switch n := len(change.Nameservers); {
	case change.Do == Save && c.Most > 0 && n > c.Most:
		return fmt.Errorf("the registrar takes at most %d nameservers, and the list has %d", c.Most, n)
	case change.Do == Save && n < c.Least:
		return fmt.Errorf("the registrar wants at least %d nameservers, and the list has %d", c.Least, n)
	case (change.Do == PutHost || change.Do == RemoveHost) && !c.Hosts:
		return fmt.Errorf("the registrar takes no host objects")
	case change.Do == SetDS && c.DS == NoDS:
		return fmt.Errorf("the registrar takes no DS records")
	case change.Do == SetDS && c.DS == Keys && len(change.DS) > 0 && len(change.Keys) == 0:
		return fmt.Errorf("the registrar takes DNSKEY records and computes the DS from them")
	case change.Do == SetDS && c.DS == Digests && len(change.Keys) > 0 && len(change.DS) == 0:
		return fmt.Errorf("the registrar takes DS records, not keys")
	case (change.Do == Lock || change.Do == Unlock) && !c.Locks:
		return fmt.Errorf("the registrar's locks cannot be changed through its interface")
	}
	return nil
}

// Has reports whether a registration is as a change makes it.
func (r Registration) Has(c Change, caps Caps) bool {
	switch c.Do {
	case Save:
		return sameNames(r.Saved, c.Nameservers)
	case Activate:
		return sameNames(r.Active, c.Nameservers)
	case PutHost:
		for _, h := range r.Hosts {
			if h.Name == c.Host.Name {
				return sameAddresses(h.Addresses, c.Host.Addresses)
			}
		}
		return false
	case RemoveHost:
		for _, h := range r.Hosts {
			if h.Name == c.Host.Name {
				return false
			}
		}
		return true
	case SetDS:
		if caps.DS == Keys {
			return sameData(r.Keys, c.Keys)
		}
		return sameData(r.DS, c.DS)
	case Lock, Unlock:
		return r.is(c.Status) == (c.Do == Lock)
	}
	return false
}

// is reports whether a status is set.
func (r Registration) is(status string) bool {
	for _, s := range r.Status {
		if s == status {
			return true
		}
	}
	return false
}
