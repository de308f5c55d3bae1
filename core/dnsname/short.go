package dnsname

import (
	"strings"
)

// Short returns a name as people write it: without the final dot.
func Short(n Name) string {
	if n.IsRoot() {
		return "."
	}
	return strings.TrimSuffix(n.String(), ".")
}
