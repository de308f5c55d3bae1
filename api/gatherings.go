package api

import (
	"fmt"
	"net/http"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/wire"
)

// routesOfGatherings find out what a domain's zone contains where it is served now. Each is one resource of its domain: the newest one.
func routesOfGatherings() []route {
	return []route{
		{method: "GET", effect: looks, path: "/domains/:name/gathering", summary: "The newest gathering of a domain's records, as far as it got", needs: access.See, out: wire.Gathering{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return k.svc.Gather.Show(k.Request.Context(), k.caller, name)
		})},
		{method: "GET", effect: looks, path: "/domains/:name/gatherings", summary: "The newest gathering of a domain's records as a list, which is empty where there is none", needs: access.See, out: wire.Page[wire.Gathering]{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			items, err := k.svc.Gather.List(k.Request.Context(), k.caller, name)
			return wire.Page[wire.Gathering]{Items: items}, err
		})},
		{method: "GET", effect: looks, path: "/domains/:name/holder", summary: "Who holds a domain: the connected account that has it, and what its registry tells over RDAP", needs: access.See, out: wire.Holder{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return k.svc.Gather.Holder(k.Request.Context(), k.caller, name)
		})},
		{method: "POST", effect: writes, path: "/domains/:name/gatherings", summary: "Gather the records of a domain where it is served now, in the background: from a connected account, a transfer, the NSEC chain, a zone file, or by asking its nameservers", needs: access.Edit, in: wire.GatheringRequest{}, out: wire.Gathering{}, status: http.StatusAccepted, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.GatheringRequest{Domain: name}
			if err := k.body(&in); err != nil {
				return nil, err
			}
			v, err := k.svc.Gather.Begin(k.Request.Context(), k.caller, in)
			if err == nil {
				k.Header("Location", fmt.Sprintf("%s/domains/%s/gathering", Base, dnsname.Short(name)))
			}
			return v, err
		})},
		{method: "POST", effect: writes, path: "/domains/:name/gathering/acceptance", summary: "Accept the gathered records as desired records; nothing is written to a provider", needs: access.Edit, in: wire.GatheringAcceptance{}, out: wire.Imported{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.GatheringAcceptance{Domain: name}
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Gather.Accept(k.Request.Context(), k.caller, in)
		})},
	}
}
