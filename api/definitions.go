package api

import (
	"net/http"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/wire"
)

func routesOfDefinitions() []route {
	return []route{
		{method: "POST", effect: looks, path: "/sketches", summary: "Write a definition of a zone as a zone file or another provider has it; nothing is kept", right: access.Write, in: wire.SketchRequest{}, out: wire.Sketch{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			var in wire.SketchRequest
			if err := k.body(&in); err != nil {
				return nil, err
			}
			if in.Zone.IsZero() {
				return nil, &wire.Problem{Kind: wire.Invalid, Message: "Name the zone."}
			}
			return k.svc.Zones.Sketch(k.Request.Context(), in)
		}},
		{method: "POST", effect: writes, path: "/definitions", summary: "Take definition files as what zones should contain", right: access.Write, in: wire.DefineRequest{}, out: wire.Page[wire.Defined]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			var in wire.DefineRequest
			if err := k.body(&in); err != nil {
				return nil, err
			}
			if in.DryRun {
				k.looking()
			}
			items, err := k.svc.Apply.Define(k.Request.Context(), in)
			return wire.Page[wire.Defined]{Items: items}, err
		}},
		{method: "GET", effect: looks, path: "/zones/:name/definition", summary: "The definition of the zone, written back out with the kits that fit", right: access.Read, out: wire.ZoneDefinition{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return k.svc.Zones.ZoneDefinition(k.Request.Context(), name)
		})},
		{method: "POST", effect: writes, path: "/zones/:name/takeover", summary: "Take the zone out of the hands of the definition file that leads it", right: access.Write, out: wire.ZoneDefinition{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return k.svc.Zones.TakeOver(k.Request.Context(), name)
		})},
		{method: "GET", effect: looks, path: "/house-kit", summary: "What a new zone starts with", right: access.Read, out: wire.HouseKit{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			return k.svc.Zones.HouseKit(), nil
		}},
	}
}
