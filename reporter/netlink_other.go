//go:build !linux

package reporter

import (
	"context"
	"errors"
	"net"
	"net/netip"

	core "beacon/core/reporter"
)

// addresses returns the addresses of an interface, or of all where name is empty. Here it is not known which are temporary or deprecated.
func addresses(name string) (list []core.Address, err error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	found := false
	for _, i := range all {
		if name != "" && i.Name != name {
			continue
		}
		found = true
		has, err := i.Addrs()
		if err != nil {
			return nil, err
		}
		for _, a := range has {
			if p, err := netip.ParsePrefix(a.String()); err == nil {
				list = append(list, core.Address{Prefix: p, Preferred: core.Forever})
			}
		}
	}
	if !found {
		return nil, errors.New("there is none of this name")
	}
	return list, nil
}

func gateway() (netip.Addr, error) {
	return netip.Addr{}, errors.New("name the router: router:ADDRESS")
}

// watch ends when ctx does: changes are seen with the next look only.
func watch(ctx context.Context, _ func()) error { <-ctx.Done(); return nil }
