package evidence

import (
	"time"
)

// ResolverAnswer is what a caching resolver said. It is asked for a random name of a private type, whose negative
// answer carries the SOA of the zone as the resolver reaches it, and for the watched sets; never for NS.
type ResolverAnswer struct {
	Name      string     `json:"name"`
	Address   string     `json:"address"`
	Group     string     `json:"group,omitempty"`
	At        time.Time  `json:"at"`
	SOA       *SOA       `json:"soa,omitempty"` // nil where it is not known
	Sets      []Observed `json:"sets,omitempty"`
	Again     []Observed `json:"again,omitempty"`     // those that it answered otherwise when asked once more
	Proven    bool       `json:"proven,omitempty"`    // it says that it validated the answer (AD)
	Refuses   bool       `json:"refuses,omitempty"`   // it gives the answer only to who does not want it checked: it takes it for bogus
	Rcode     string     `json:"rcode,omitempty"`     // where it is neither an answer nor NXDOMAIN
	Explained []string   `json:"explained,omitempty"` // extended errors (RFC 8914)
	Problem   string     `json:"problem,omitempty"`
}
