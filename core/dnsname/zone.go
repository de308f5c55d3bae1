package dnsname

import (
	"strings"
)

// ZoneProblem returns why a name cannot be that of a zone, or "". A zone's name is made of letters, digits, hyphens and underscores;
// below in-addr.arpa and ip6.arpa labels may hold a slash, too (RFC 2317 section 4). Addresses and URLs are names by their form, and are no zones.
func (n Name) ZoneProblem() string {
	if n.IsZero() || n.IsRoot() {
		return "a zone has a name, and it is not the root"
	}
	labels := n.Labels()
	reverse := len(labels) > 2 && labels[len(labels)-1] == "arpa" && (labels[len(labels)-2] == "in-addr" || labels[len(labels)-2] == "ip6")
	for _, label := range labels {
		for _, c := range []byte(label) {
			switch {
			case c >= 'a' && c <= 'z', c >= '0' && c <= '9', c == '-', c == '_', c == '/' && reverse:
			case c == ':' || c == '/':
				return "it looks like an address or a URL; write the zone's name alone, such as saltmarsh-ferries.example"
			default:
				return "it has a character that names of zones do not have; letters, digits, hyphens and underscores are allowed"
			}
		}
	}
	if top := labels[len(labels)-1]; strings.Trim(top, "0123456789") == "" {
		return "it looks like an IPv4 address; its reverse zone is a name below in-addr.arpa"
	}
	return ""
}
