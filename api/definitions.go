package api

import (
	"net/http"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/wire"
)

func routesOfDefinitions() []route {
	return []route{
		{method: "POST", effect: looks, path: "/generated-definitions", summary: "Write a definition of a zone as a zone file or another provider has it; nothing is kept", needs: access.Place, in: wire.GenerateRequest{}, out: wire.Generated{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			var in wire.GenerateRequest
			if err := k.body(&in); err != nil {
				return nil, err
			}
			if in.Zone.IsZero() {
				return nil, &wire.Problem{Kind: wire.Invalid, Message: "Name the zone."}
			}
			return k.svc.Gather.Generate(k.Request.Context(), k.caller, in)
		}},
		{method: "POST", effect: writes, path: "/definitions", summary: "Accept definition files as desired records", needs: access.Place, most: 8, in: wire.ApplyRequest{}, out: wire.Page[wire.Applied]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			var in wire.ApplyRequest
			if err := k.body(&in); err != nil {
				return nil, err
			}
			if len(in.Files) == 0 {
				return nil, wire.Problemf(wire.Invalid, "There are no files. Send the text of each definition file in files.")
			}
			octets := 0
			for _, f := range in.Files {
				octets += len(f.Text)
			}
			leave, err := k.slots.large(octets)
			if err != nil {
				return nil, err
			}
			defer leave()
			if in.DryRun {
				k.looking()
			}
			items, err := k.svc.Apply.Apply(k.Request.Context(), k.caller, in)
			return wire.Page[wire.Applied]{Items: items}, err
		}},
		{method: "GET", effect: looks, path: "/zones/:name/definition", summary: "The definition of the zone, written back out with the kits that fit", needs: access.See, out: wire.ZoneDefinition{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return k.svc.Zones.ZoneDefinition(k.Request.Context(), k.caller, name)
		})},
		{method: "POST", effect: writes, path: "/zones/:name/detachment", summary: "Detach the zone from the definition file that manages it", needs: access.Place, out: wire.ZoneDefinition{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return k.svc.Zones.Detach(k.Request.Context(), k.caller, name)
		})},
		{method: "GET", effect: looks, path: "/house-kit", summary: "What a new zone starts with", needs: access.See, out: wire.HouseKit{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			return k.svc.Zones.HouseKit(), nil
		}},
	}
}
