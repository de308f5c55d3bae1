package wire

import "beacon/core/dnsname"

// UpdateLock is the status of a registration under which the registry refuses changes of nameservers (RFC 8056).
const UpdateLock = "client update prohibited"

// LockRequest asks for a status of a domain at its registrar to be set or lifted.
type LockRequest struct {
	Domain dnsname.Name `json:"-"`      // the path names it
	Status string       `json:"status"` // in the words of RFC 8056; empty for UpdateLock
	Lift   bool         `json:"lift"`   // lift the status; else set it
	Reason string       `json:"reason"` // why, for the logbook
}

// LockChange is what setting or lifting a status would do, or did.
type LockChange struct {
	Domain    dnsname.Name      `json:"domain"`
	Registrar string            `json:"registrar"` // the account
	Status    string            `json:"status"`
	Lift      bool              `json:"lift"`              // the status is lifted; else set
	Before    []string          `json:"before"`            // statuses that are set
	Reasons   map[string]string `json:"reasons,omitempty"` // why, by status, where the registrar says it
	Locks     bool              `json:"locks"`             // the registrar's interface can set and lift statuses
	Pending   bool              `json:"pending"`           // something is to be sent
	Next      string            `json:"next"`              // what is to be done now
}
