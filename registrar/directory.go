package registrar

import (
	"encoding/json"
	"fmt"
	"net/url"
	"strings"

	"beacon/core/dnsname"
)

// Directory says which RDAP server knows the registrations of which zone. The zero value knows none.
type Directory struct{ at map[dnsname.Name]string }

// ReadDirectory reads a bootstrap file, which IANA keeps for the domains of the root (RFC 9224 section 3). Of several addresses for a zone, one with TLS is taken.
func ReadDirectory(text []byte) (d Directory, err error) {
	var file struct {
		Services [][][]string `json:"services"`
	}
	if err := json.Unmarshal(text, &file); err != nil {
		return d, fmt.Errorf("it is no bootstrap file (RFC 9224): %w", err)
	}
	if file.Services == nil {
		return d, fmt.Errorf("it is no bootstrap file (RFC 9224): it has no services")
	}
	for i, s := range file.Services {
		if len(s) != 2 || len(s[1]) == 0 {
			return d, fmt.Errorf("service %d has no zones or no addresses", i+1)
		}
		address := s[1][0]
		for _, a := range s[1] {
			if strings.HasPrefix(a, "https:") {
				address = a
				break
			}
		}
		for _, entry := range s[0] {
			zone, err := dnsname.Parse(entry)
			if err == nil {
				d, err = d.With(zone, address)
			}
			if err != nil {
				return d, fmt.Errorf("service %d: %w", i+1, err)
			}
		}
	}
	return d, nil
}

// With returns the directory with one more zone; an entry that is there already is replaced.
func (d Directory) With(zone dnsname.Name, address string) (Directory, error) {
	if u, err := url.Parse(address); err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		return d, fmt.Errorf("%q is no address; write one such as https://rdap.example/", address)
	}
	next := Directory{at: map[dnsname.Name]string{zone: address}}
	for name, have := range d.at {
		if name != zone {
			next.at[name] = have
		}
	}
	return next, nil
}

// For returns the zone with the most labels above a name, and the address of its server (RFC 9224 section 4); ok is false where there is none.
func (d Directory) For(name dnsname.Name) (zone dnsname.Name, address string, ok bool) {
	for at := name; !at.IsRoot(); {
		at = at.Parent()
		if address, ok = d.at[at]; ok {
			return at, address, true
		}
	}
	return zone, "", false
}
