package secondaries

import (
	"fmt"
	"net/netip"
	"net/url"
	"strconv"
	"strings"

	"beacon/core/dnsname"
	"beacon/provider"
	"beacon/service/accounts"
)

// AccountKind is the kind of accounts whose nameservers fetch their zones from us.
func (s *Secondaries) AccountKind() accounts.Kind {
	return accounts.Kind{
		About:   "Ourselves as hidden primary: nameservers fetch these zones from here, signed with a key (RFC 5936, RFC 1995, RFC 8945)",
		Driver:  func(c accounts.Connection) (provider.Driver, error) { return s.publisherOf(c) },
		Address: func(address string) error { _, err := parseSecondaries(address); return err },
		Inbound: true,
		Closed:  s.listen == "",
	}
}

// Kind is the kind of accounts whose nameservers fetch their zones from us.
const Kind = "secondaries"

// secondary is one nameserver that fetches from us.
type secondary struct {
	at   netip.AddrPort
	name dnsname.Name // as which it is delegated to
}

// parseSecondaries takes an account's address apart: dns://ADDRESS[:PORT]/NAME for each nameserver, with commas between.
func parseSecondaries(address string) (list []secondary, err error) {
	for _, text := range strings.Split(address, ",") {
		u, err := url.Parse(strings.TrimSpace(text))
		if err != nil || u.Scheme != "dns" || u.Hostname() == "" {
			return nil, fmt.Errorf("%q is no secondary; write each as dns://192.0.2.53/ns1.example, with commas between", text)
		}
		ip, err := netip.ParseAddr(u.Hostname())
		if err != nil {
			return nil, fmt.Errorf("%q: a secondary is named by its address, so that no other host can pass for it", text)
		}
		port := uint64(53)
		if u.Port() != "" {
			if port, err = strconv.ParseUint(u.Port(), 10, 16); err != nil {
				return nil, fmt.Errorf("%q has no such port", text)
			}
		}
		name, err := dnsname.Parse(strings.Trim(u.Path, "/"))
		if err != nil || name.IsRoot() {
			return nil, fmt.Errorf("%q does not say as which nameserver it is known; write dns://%s/ns1.example", text, u.Host)
		}
		list = append(list, secondary{netip.AddrPortFrom(ip, uint16(port)), name})
	}
	return list, nil
}
