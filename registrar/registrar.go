// Package registrar is the contract of a domain registrar: what the service asks of whoever holds a registration, and
// what every driver promises. Drivers stand in packages below; conform holds the run that each must pass.
//
// As with DNS providers, a driver knows one outside interface and nothing of ours, never retries, and reports each
// failure as an *outcall.Error.
package registrar

import (
	"context"
	"time"

	"beacon/core/dnsname"
)

// Driver is one account at one registrar. It is safe for concurrent use. One call is one request.
type Driver interface {
	// Domains lists the account's registrations, from the beginning for the empty cursor.
	Domains(ctx context.Context, cursor Cursor) (Page, error)
	// Domain returns one registration.
	Domain(ctx context.Context, name dnsname.Name) (Registration, error)
	// Save stores a nameserver list. Where Caps.NeedsActivation it is not active yet; else it is at once.
	Save(ctx context.Context, name dnsname.Name, nameservers []dnsname.Name) (Registration, error)
	// Activate brings the stored list into force. Where nothing waits to be made active it changes nothing.
	Activate(ctx context.Context, name dnsname.Name) (Registration, error)
	// Caps returns what the registrar is like. It makes no request.
	Caps() Caps
}

// Caps is what a registrar is like.
type Caps struct {
	NeedsActivation bool // a stored list is active only once made active
}

// Cursor is a place in a list, as the registrar gave it; empty for the beginning, and behind the end.
type Cursor string

// Registration is one registered domain.
type Registration struct {
	Name    dnsname.Name   `json:"name"`
	Saved   []dnsname.Name `json:"saved"`            // stored list, sorted
	Active  []dnsname.Name `json:"active"`           // list active, sorted
	Expires time.Time      `json:"expires"`          // zero where it is not told
	Status  []string       `json:"status,omitempty"` // in the words of RFC 8056, such as "client hold"; empty where it is not told
}

// Page is one page of registrations.
type Page struct {
	Registrations []Registration
	Next          Cursor
}
