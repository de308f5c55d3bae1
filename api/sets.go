package api

import (
	"net/http"
	"strings"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/wire"
)

// routesOfSets read and write single record sets, for scripts.
func routesOfSets() []route {
	put := func(k *call, name dnsname.Name, remove bool) (any, error) {
		key, err := k.set(name)
		if err != nil {
			return nil, err
		}
		var in wire.SetRequest
		if !remove || k.Request.ContentLength > 0 {
			if err := k.body(&in); err != nil {
				return nil, err
			}
		}
		if remove {
			in.Data = nil
		} else if len(in.Data) == 0 {
			return nil, wire.Problemf(wire.Invalid, "data is empty. Nothing changed. To remove the set, use DELETE.")
		}
		in.Zone, in.Key, in.Tag, in.New = name, key, strings.Trim(k.GetHeader("If-Match"), `"`), k.GetHeader("If-None-Match") == "*"
		if in.DryRun {
			k.looking()
		}
		out, err := k.svc.Apply.PutSet(k.Request.Context(), k.caller, in)
		if err == nil {
			k.Header("ETag", `"`+out.Tag+`"`)
		}
		return out, err
	}
	return []route{
		{method: "GET", effect: looks, path: "/zones/:name/sets/:owner/:type", summary: "One desired record set, with its ETag", needs: access.See, out: wire.SetView{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			key, err := k.set(name)
			if err != nil {
				return nil, err
			}
			v, err := k.svc.Zones.Set(k.Request.Context(), k.caller, name, key)
			if err == nil {
				k.Header("ETag", `"`+v.Tag+`"`)
			}
			return v, err
		})},
		{method: "PUT", effect: writes, path: "/zones/:name/sets/:owner/:type", summary: "Replace one record set by a revision of its own, and start the syncs; If-Match and If-None-Match: * are honoured", needs: access.Edit, in: wire.SetRequest{}, out: wire.SetWritten{}, status: http.StatusAccepted, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return put(k, name, false)
		})},
		{method: "DELETE", effect: writes, path: "/zones/:name/sets/:owner/:type", summary: "Remove one record set by a revision of its own, and start the syncs; If-Match is honoured", needs: access.Edit, in: wire.SetRequest{}, out: wire.SetWritten{}, status: http.StatusAccepted, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return put(k, name, true)
		})},
	}
}

// set reads the record set that a path names: owner, @ for the apex, and type.
func (k *call) set(zone dnsname.Name) (key record.Key, err error) {
	if key.Name, err = dnsname.ParseRelative(k.Param("owner"), zone); err != nil {
		return key, wire.Problemf(wire.Invalid, "%q is not an owner name: %s.", k.Param("owner"), err)
	}
	if !key.Name.IsAtOrBelow(zone) {
		return key, wire.Problemf(wire.Invalid, "%s does not lie in the zone %s.", key.Name.Unicode(), zone.Unicode())
	}
	if key.Type, err = record.ParseType(k.Param("type")); err != nil {
		return key, wire.Problemf(wire.Invalid, "%s.", err)
	}
	return key, nil
}
