package wire

import (
	"time"

	"beacon/core/dnsname"
	"beacon/core/dynaddr"
)

// NewHost is a name that is to follow a reported address.
type NewHost struct {
	Name     dnsname.Name   `json:"name" required:"true"`
	V4       bool           `json:"v4"`                 // follow an IPv4 address
	V6       bool           `json:"v6"`                 // follow an IPv6 address
	TTL      uint32         `json:"ttl,omitempty"`      // seconds; 0 for the usual
	Location string         `json:"location,omitempty"` // whose uplinks it follows; empty for one of its own, with its own token
	Below    *dynaddr.Place `json:"below,omitempty"`    // its place below the IPv6 prefix of the uplink; none for the uplink's own address
	Policy   dynaddr.Policy `json:"policy,omitzero"`    // what it does not inherit of its location

	Parameters dynaddr.Parameters `json:"parameters,omitzero"` // names that its client has for what it reports; only of a host with an uplink of its own
}

// HostAdded is a new host. The token is shown this once.
type HostAdded struct {
	Name     dnsname.Name `json:"name"`
	Token    string       `json:"token"`    // of the one uplink; empty where the host follows a location
	Location string       `json:"location"` // that it follows; empty for one of its own
}

// HostSettings are what may be changed about a host; they replace those that it has.
type HostSettings struct {
	Name   dnsname.Name   `json:"name"`            // the host's; the address of the call says it
	V4     bool           `json:"v4"`              // follow an IPv4 address
	V6     bool           `json:"v6"`              // follow an IPv6 address
	TTL    uint32         `json:"ttl,omitempty"`   // seconds; 0 for the usual
	Below  *dynaddr.Place `json:"below,omitempty"` // its place below the IPv6 prefix of the uplink; none for the uplink's own address
	Policy dynaddr.Policy `json:"policy,omitzero"` // what it does not inherit of its location

	Parameters dynaddr.Parameters `json:"parameters,omitzero"` // names that its client has for what it reports
}

// HostView is a host as it is shown.
type HostView struct {
	Name      dnsname.Name     `json:"name"`
	Zone      dnsname.Name     `json:"zone"`
	Follows   dynaddr.Families `json:"follows"`
	TTL       uint32           `json:"ttl"`
	Location  string           `json:"location"` // whose uplinks it follows; empty for one of its own
	Uplink    string           `json:"uplink"`   // that it has its address of; empty for none
	Status    dynaddr.Status   `json:"status"`
	V4        string           `json:"v4"`               // where it is; empty before the first report
	V6        string           `json:"v6"`               // the same
	Since     *time.Time       `json:"since"`            // that it has this address, simulated time
	Waiting   string           `json:"waiting"`          // the newest address, which is held; empty for none
	Until     *time.Time       `json:"until"`            // when that is taken without another report, simulated time
	Silent    *time.Time       `json:"silent"`           // since when nothing reports, simulated time
	SeenAt    *time.Time       `json:"seen_at"`          // when one of its uplinks last reported anything, to the minute
	Below     *dynaddr.Place   `json:"below,omitempty"`  // its place below the IPv6 prefix of the uplink
	Policy    dynaddr.Policy   `json:"policy,omitzero"`  // what it does not inherit
	Rules     dynaddr.Policy   `json:"rules"`            // what holds, with what is inherited
	Uplinks   []UplinkView     `json:"uplinks,omitzero"` // of its location, the best one first; only where one host is shown
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
	Uplink     string          `json:"uplink"` // that it is of; empty where the host moved without a report
	Times      int             `json:"times"`  // in a row, where it was refused
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

// UnwrittenHost is a dynamic host whose address could not be written to a provider yet.
type UnwrittenHost struct {
	Host    dnsname.Name `json:"host"`    // its name
	Account string       `json:"account"` // the provider account
	Address string       `json:"address"` // that is to be written; empty for none
	Since   time.Time    `json:"since"`   // when it was reported, real time
	Problem string       `json:"problem"` // what ended the last attempt; empty while one goes on
}

// NewLocation is a place with lines to the internet, which hosts can follow.
type NewLocation struct {
	Name        string         `json:"name" required:"true"`
	Description string         `json:"description,omitempty"`
	Uplinks     []string       `json:"uplinks,omitempty"` // the best one first; none for one, called main
	Policy      dynaddr.Policy `json:"policy,omitzero"`   // what its hosts inherit
}

// LocationAdded is a new location. The tokens are shown this once.
type LocationAdded struct {
	Name   string        `json:"name"`
	Tokens []UplinkToken `json:"tokens"` // of its uplinks, the best one first
}

// UplinkToken is what an uplink reports with, shown this once.
type UplinkToken struct {
	Uplink string `json:"uplink"` // its name
	Token  string `json:"token"`
}

// NewUplink is another line of a location.
type NewUplink struct {
	Location string `json:"location"` // the address of the call says it
	Name     string `json:"name" required:"true"`
}

// LocationSettings are what may be changed about a location; they replace those that it has.
type LocationSettings struct {
	Name        string         `json:"name"` // the location's; the address of the call says it
	Description string         `json:"description"`
	Policy      dynaddr.Policy `json:"policy,omitzero"`   // what its hosts inherit
	Uplinks     []string       `json:"uplinks,omitempty"` // all of them, the best one first; none to leave their order
}

// UplinkSettings are what may be changed about an uplink; they replace those that it has.
type UplinkSettings struct {
	Location   string             `json:"location"`            // the address of the call says it
	Name       string             `json:"name"`                // the same
	Parameters dynaddr.Parameters `json:"parameters,omitzero"` // names that its client has for what it reports
}

// LocationView is a location as it is shown.
type LocationView struct {
	Name        string         `json:"name"`
	Description string         `json:"description"`
	Policy      dynaddr.Policy `json:"policy,omitzero"` // what it sets
	Rules       dynaddr.Policy `json:"rules"`           // what its hosts inherit
	Uplinks     []UplinkView   `json:"uplinks"`         // the best one first
	Hosts       []HostView     `json:"hosts"`           // those that follow it, as far as you may see them
	CreatedBy   string         `json:"created_by"`
	CreatedAt   time.Time      `json:"created_at"`
}

// UplinkView is a line of a location as it is shown.
type UplinkView struct {
	Name       string             `json:"name"`
	V4         string             `json:"v4"`
	V6         string             `json:"v6"`
	Prefixes   []string           `json:"prefixes"`            // delegated to it, the preferred one first
	Translated string             `json:"translated"`          // its address behind its provider's address translation, where nobody reaches it
	SeenAt     *time.Time         `json:"seen_at"`             // when it last reported, to the minute
	SeenFrom   string             `json:"seen_from"`           // the address that it last reported from
	Refused    string             `json:"refused"`             // why the last report was refused; empty where it was not
	Parameters dynaddr.Parameters `json:"parameters,omitzero"` // names that its client has for what it reports
	Reports    bool               `json:"reports"`             // it is among those that are followed: it reported within the time for failover
}

// TSIGKeyView is a key that signs dynamic updates (RFC 2136, RFC 8945).
type TSIGKeyView struct {
	Name         string     `json:"name"`       // written like a domain name
	For          string     `json:"for"`        // the host whose updates it signs, or LOCATION/UPLINK
	Algorithm    string     `json:"algorithm"`  // such as hmac-sha256
	CreatedBy    string     `json:"created_by"` // the user, or the token
	CreatedAt    time.Time  `json:"created_at"`
	FirstUsedAt  *time.Time `json:"first_used_at"`  // null where it was not used yet
	LastUsedAt   *time.Time `json:"last_used_at"`   // to the minute
	LastUsedFrom string     `json:"last_used_from"` // address
}

// NewTSIGKey is a key to be made.
type NewTSIGKey struct {
	For       string `json:"for" required:"true"` // the host whose updates it signs, or LOCATION/UPLINK
	Name      string `json:"name,omitempty"`      // written like a domain name; empty for that of the host, or LOCATION-UPLINK
	Algorithm string `json:"algorithm,omitempty"` // hmac-sha256 if empty; hmac-sha1 for clients that know no other
}

// TSIGKeyAdded is a new key. Its secret is shown this once.
type TSIGKeyAdded struct {
	Name      string `json:"name"`           // of the key
	For       string `json:"for"`            // the host, or LOCATION/UPLINK
	Algorithm string `json:"algorithm"`      // as asked for
	Secret    string `json:"secret"`         // in Base64
	File      string `json:"file"`           // the same as a key file, as nsupdate -k reads it
	Note      string `json:"note,omitempty"` // what is still to be done, so that updates are taken
}
