package reporter

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"

	core "beacon/core/reporter"
)

// From is where an address comes from; the zero value for a family that is not reported.
type From struct {
	Kind  Kind
	Value string // the interface, the address of the router, the URL, or the address
}

// Kind is a kind of source.
type Kind string

// Sources of addresses.
const (
	Fixed     Kind = "address"   // Value
	Interface Kind = "interface" // of this machine; every one where Value is empty
	Router    Kind = "router"    // as it says; the gateway where Value is empty
	Service   Kind = "service"   // that the report comes from, as the service sees it
	Web       Kind = "url"       // as another service sees it, which answers with the address alone
)

// ParseFrom reads where an address comes from: an address, interface, interface:NAME, router, router:ADDRESS, service, or a URL. Empty text is the zero From.
func ParseFrom(text string) (From, error) {
	kind, value, _ := strings.Cut(text, ":")
	switch {
	case text == "":
		return From{}, nil
	case strings.HasPrefix(text, "http://"), strings.HasPrefix(text, "https://"):
		return From{Web, text}, nil
	case text == string(Service):
		return From{Kind: Service}, nil
	case kind == string(Interface):
		return From{Interface, value}, nil
	case kind == string(Router):
		if _, err := netip.ParseAddrPort(value); value != "" && err != nil {
			a, err := netip.ParseAddr(value)
			if err != nil || !a.Is4() {
				return From{}, fmt.Errorf("%q is no IPv4 address of a router", value)
			}
			value = netip.AddrPortFrom(a, core.RouterPort).String()
		}
		return From{Router, value}, nil
	}
	if a, err := netip.ParseAddr(text); err == nil && a.Zone() == "" {
		return From{Fixed, a.String()}, nil
	}
	return From{}, fmt.Errorf("%q is no source of an address; write an address, interface, interface:NAME, router, router:ADDRESS, service, or a URL", text)
}

func (f From) String() string {
	switch f.Kind {
	case Fixed, Web:
		return f.Value
	case "":
		return ""
	}
	if f.Value != "" {
		return string(f.Kind) + ":" + f.Value
	}
	return string(f.Kind)
}

// errUnknown says that it could not be found out which address there is: what was reported stays as it is.
var errUnknown = errors.New("it is not known")

// find returns the address that a source has of a family, the zero Addr where it has none. current is the one that was found last.
func (r *Reporter) find(ctx context.Context, f From, four bool, current netip.Addr) (netip.Addr, error) {
	switch f.Kind {
	case Fixed:
		return netip.ParseAddr(f.Value)
	case Interface:
		list, err := addresses(f.Value)
		if err != nil {
			return netip.Addr{}, fmt.Errorf("%w: interface %s: %w", errUnknown, f.Value, err)
		}
		return core.Choose(list, four, current), nil
	case Router:
		a, err := r.askRouter(ctx, f.Value)
		if err != nil {
			return netip.Addr{}, fmt.Errorf("%w: router: %w", errUnknown, err)
		}
		return a, nil
	case Web:
		a, err := r.askWeb(ctx, f.Value, four)
		if err != nil {
			return netip.Addr{}, fmt.Errorf("%w: %w", errUnknown, err)
		}
		return a, nil
	}
	return netip.Addr{}, fmt.Errorf("%q is no source", f)
}
