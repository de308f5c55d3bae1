package special

import (
	"net/netip"
	"net/url"
	"slices"
	"strings"
)

// ThisMachine reports whether a host, as it stands in an address, is the machine itself: what is sent there passes no network.
func ThisMachine(host string) bool {
	addr, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && addr.Unmap().IsLoopback()
}

// PlainText returns the host of an http:// address, to which what is sent can be read in transit: another machine, which is none of those that plain names. It is empty for
// every other address.
func PlainText(address string, plain []string) string {
	u, err := url.Parse(strings.TrimSpace(address))
	if err != nil || !strings.EqualFold(u.Scheme, "http") || ThisMachine(u.Hostname()) || slices.Contains(plain, u.Hostname()) {
		return ""
	}
	return u.Hostname()
}

// Open reports whether an address to listen at, host and port, can be reached from other machines.
func Open(listen string) bool {
	u, err := url.Parse("//" + listen)
	return err == nil && u.Host != "" && !ThisMachine(u.Hostname())
}
