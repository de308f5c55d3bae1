package wire

import (
	"time"

	"beacon/core/dnsname"
	"beacon/core/dynaddr"
)

// NewHost is a name that is to follow a reported address.
type NewHost struct {
	Name dnsname.Name `json:"name" required:"true"`
	V4   bool         `json:"v4"`            // follow an IPv4 address
	V6   bool         `json:"v6"`            // follow an IPv6 address
	TTL  uint32       `json:"ttl,omitempty"` // seconds; 0 for the usual
}

// HostAdded is a new host. The token is shown this once.
type HostAdded struct {
	Name  dnsname.Name `json:"name"`
	Token string       `json:"token"`
}

// HostView is a host as it is shown.
type HostView struct {
	Name      dnsname.Name     `json:"name"`
	Zone      dnsname.Name     `json:"zone"`
	Follows   dynaddr.Families `json:"follows"`
	TTL       uint32           `json:"ttl"`
	V4        string           `json:"v4"`      // where it stands; empty before the first report
	V6        string           `json:"v6"`      // the same
	SeenAt    *time.Time       `json:"seen_at"` // when it last reported anything, to the minute
	CreatedBy string           `json:"created_by"`
	CreatedAt time.Time        `json:"created_at"`
	Last      *ReportView      `json:"last"`    // the newest report that was not unchanged
	Reports   []ReportView     `json:"reports"` // newest first; only where one host is shown
}

// ReportView is a report and how far it has come.
type ReportView struct {
	Outcome    dynaddr.Outcome `json:"outcome"`
	Reason     string          `json:"reason"`
	V4         string          `json:"v4"`
	V6         string          `json:"v6"`
	Peer       string          `json:"peer"`
	Times      int             `json:"times"` // in a row, where it was refused
	ReportedAt time.Time       `json:"reported_at"`
	AcceptedAt *time.Time      `json:"accepted_at"`
	Overtaken  bool            `json:"overtaken"` // a newer one came before this was visible
	Arrivals   []ArrivalView   `json:"arrivals"`
}

// ArrivalView is how far a report has come at one provider account.
type ArrivalView struct {
	Account   string     `json:"account"`
	WrittenAt *time.Time `json:"written_at"`
	VisibleAt *time.Time `json:"visible_at"` // at every nameserver
	SettlesBy *time.Time `json:"settles_by"` // in every cache, simulated time
	Problem   string     `json:"problem"`    // what ended the last attempt, while it has not arrived
}
