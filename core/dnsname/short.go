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

// ShortList returns names as people write them, separated by commas.
func ShortList(names []Name) string {
	list := make([]string, len(names))
	for i, n := range names {
		list[i] = Short(n)
	}
	return strings.Join(list, ", ")
}
