package check

import (
	"strings"
	"time"

	"beacon/core/arrival"
	"beacon/core/dnsname"
	"beacon/visit"
)

// VantageSettings name another instance that is asked how a domain looks from where it stands.
type VantageSettings struct {
	Name      string `yaml:"name"`
	Address   string `yaml:"address"`    // of its API
	TokenFile string `yaml:"token_file"` // a file with a token that may read there
}

// RDAPSettings say where the registry of a zone answers over RDAP.
type RDAPSettings struct {
	Zone    string `yaml:"zone"`    // such as example
	Address string `yaml:"address"` // such as https://rdap.example/
}

// CheckSettings say how often domains are checked, in simulated time.
type CheckSettings struct {
	Settling time.Duration `yaml:"settling"` // while something settles; at the least while something is wrong
	Settled  time.Duration `yaml:"settled"`
	Margin   time.Duration `yaml:"margin"`       // for many machines behind one address, before gates that lose answers when passed early
	NoIPv6   bool          `yaml:"without_ipv6"` // nobody here can ask over IPv6, and that is known
	Brief    time.Duration `yaml:"brief"`        // between two brief looks at all; 0 for never by itself
	ByHand   time.Duration `yaml:"by_hand"`      // how long a user has to enter a list at a registrar before the old one is a fault, real time
}

// WebsiteSettings say how web hosts are looked at.
type WebsiteSettings struct {
	Issuers   []arrival.Issuer `yaml:"issuers"`           // the authorities that certificates are asked of
	CAFile    string           `yaml:"ca_file"`           // file with certificates (PEM) that sites' certificates may lead to, besides the system's
	Timeout   time.Duration    `yaml:"timeout"`           // for one answer, real time
	Overrides []visit.Detour   `yaml:"address_overrides"` // where addresses are reached that cannot be reached as such from here
}

func (s WebsiteSettings) Check(fail func(format string, args ...any)) {
	if s.Timeout <= 0 || s.Timeout > CheckTime/2 {
		fail("websites.timeout: give more than nothing and at most %s", CheckTime/2)
	}
	for _, i := range s.Issuers {
		if name, err := dnsname.Parse(i.Identity); err != nil || name.IsRoot() || strings.HasSuffix(i.Identity, ".") || strings.ToLower(i.Identity) != i.Identity {
			fail("websites.issuers: %q is no identity; write what CAA records call the authority by, in small letters, such as ca.example", i.Identity)
		}
	}
	for _, d := range s.Overrides {
		if !d.Address.IsValid() || !d.HTTP.IsValid() || !d.HTTPS.IsValid() {
			fail("websites.address_overrides: each needs an address, and for http and https an address with a port")
		}
	}
}
