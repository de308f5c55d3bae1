package registrar

import (
	"cmp"
	"net/netip"
	"slices"

	"beacon/core/dnsname"
	"beacon/core/record"
)

func sameNames(a, b []dnsname.Name) bool { return slices.Equal(dnsname.SortSet(a), dnsname.SortSet(b)) }

func sameAddresses(a, b []netip.Addr) bool { return sameSet(a, b, netip.Addr.Compare) }

func sameData(a, b []record.Data) bool { return sameSet(a, b, cmp.Compare[record.Data]) }

// sameSet reports whether two lists hold the same, in whatever order and however often.
func sameSet[T comparable](a, b []T, compare func(T, T) int) bool {
	sorted := func(list []T) []T {
		list = slices.Clone(list)
		slices.SortFunc(list, compare)
		return slices.Compact(list)
	}
	return slices.Equal(sorted(a), sorted(b))
}
