package api

import (
	"net/http"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/wire"
)

func routesOfHosts() []route {
	report := route{effect: writes, path: "/report", summary: "Report the address of an uplink, with its own token; answers one line: accepted, unchanged, held, unreachable or refused",
		query: []string{"host", "v4", "v6", "prefix"}, status: http.StatusOK, stream: takeReport, text: true}
	get, post, put := report, report, report
	get.method, post.method, put.method = "GET", "POST", "PUT"
	return []route{
		{method: "GET", effect: looks, path: "/hosts", summary: "Names that follow a reported address", needs: access.See, query: []string{"cursor", "limit"}, out: wire.Page[wire.HostView]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			after, err := k.after()
			if err != nil {
				return nil, err
			}
			items, more, err := k.svc.Hosts.Hosts(k.Request.Context(), k.caller, after, k.limit())
			return nextByName(items, more, func(h wire.HostView) dnsname.Name { return h.Name }), err
		}},
		{method: "POST", effect: writes, secret: true, path: "/hosts", summary: "Make a name follow the address that is reported for it", needs: access.Edit, in: wire.NewHost{}, out: wire.HostAdded{}, status: http.StatusCreated, handle: func(k *call) (any, error) {
			var in wire.NewHost
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Hosts.AddHost(k.Request.Context(), k.caller, in)
		}},
		{method: "GET", effect: looks, path: "/hosts/:name", summary: "One host and what it reported", needs: access.See, out: wire.HostView{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return k.svc.Hosts.Host(k.Request.Context(), k.caller, name)
		})},
		{method: "DELETE", effect: writes, path: "/hosts/:name", summary: "End that a name follows", needs: access.Edit, status: http.StatusNoContent, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return nil, k.svc.Hosts.RemoveHost(k.Request.Context(), k.caller, name)
		})},
		{method: "PUT", effect: writes, path: "/hosts/:name", summary: "Replace the settings of a host that follows", needs: access.Edit, in: wire.HostSettings{}, out: wire.HostView{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			var in wire.HostSettings
			if err := k.body(&in); err != nil {
				return nil, err
			}
			in.Name = name
			return k.svc.Hosts.ChangeHost(k.Request.Context(), k.caller, in)
		})},
		get, post, put,
	}
}

func routesOfLocations() []route {
	return []route{
		{method: "GET", effect: looks, path: "/locations", summary: "Places with lines to the internet, and the hosts that follow them", needs: access.See, query: []string{"cursor", "limit"}, out: wire.Page[wire.LocationView]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			items, more, err := k.svc.Hosts.Locations(k.Request.Context(), k.caller, k.Query("cursor"), k.limit())
			page := wire.Page[wire.LocationView]{Items: items}
			if more {
				page.Next = items[len(items)-1].Name
			}
			return page, err
		}},
		{method: "POST", effect: writes, secret: true, path: "/locations", summary: "Add a location with its uplinks, each with a token", needs: access.Edit, in: wire.NewLocation{}, out: wire.LocationAdded{}, status: http.StatusCreated, handle: func(k *call) (any, error) {
			var in wire.NewLocation
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Hosts.AddLocation(k.Request.Context(), k.caller, in)
		}},
		{method: "GET", effect: looks, path: "/locations/:location", summary: "One location with its uplinks and hosts", needs: access.See, out: wire.LocationView{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			return k.svc.Hosts.Location(k.Request.Context(), k.caller, k.Param("location"))
		}},
		{method: "PUT", effect: writes, path: "/locations/:location", summary: "Replace the settings of a location", needs: access.Edit, in: wire.LocationSettings{}, out: wire.LocationView{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			var in wire.LocationSettings
			if err := k.body(&in); err != nil {
				return nil, err
			}
			in.Name = k.Param("location")
			return k.svc.Hosts.ChangeLocation(k.Request.Context(), k.caller, in)
		}},
		{method: "DELETE", effect: writes, path: "/locations/:location", summary: "Remove a location without hosts", needs: access.Edit, status: http.StatusNoContent, handle: func(k *call) (any, error) {
			return nil, k.svc.Hosts.RemoveLocation(k.Request.Context(), k.caller, k.Param("location"))
		}},
		{method: "POST", effect: writes, secret: true, path: "/locations/:location/uplinks", summary: "Add an uplink to a location, with its token", needs: access.Edit, in: wire.NewUplink{}, out: wire.UplinkToken{}, status: http.StatusCreated, handle: func(k *call) (any, error) {
			var in wire.NewUplink
			if err := k.body(&in); err != nil {
				return nil, err
			}
			in.Location = k.Param("location")
			return k.svc.Hosts.AddUplink(k.Request.Context(), k.caller, in)
		}},
		{method: "PUT", effect: writes, path: "/locations/:location/uplinks/:uplink", summary: "Replace the settings of an uplink", needs: access.Edit, in: wire.UplinkSettings{}, out: wire.LocationView{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			var in wire.UplinkSettings
			if err := k.body(&in); err != nil {
				return nil, err
			}
			in.Location, in.Name = k.Param("location"), k.Param("uplink")
			return k.svc.Hosts.ChangeUplink(k.Request.Context(), k.caller, in)
		}},
		{method: "DELETE", effect: writes, path: "/locations/:location/uplinks/:uplink", summary: "Remove an uplink, and revoke its token", needs: access.Edit, status: http.StatusNoContent, handle: func(k *call) (any, error) {
			return nil, k.svc.Hosts.RemoveUplink(k.Request.Context(), k.caller, k.Param("location"), k.Param("uplink"))
		}},
	}
}

func routesOfTSIGKeys() []route {
	return []route{
		{method: "GET", effect: looks, path: "/tsig-keys", summary: "Keys that sign dynamic updates of hosts", needs: access.See, query: []string{"cursor", "limit"}, out: wire.Page[wire.TSIGKeyView]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			items, more, err := k.svc.Updates.Keys(k.Request.Context(), k.caller, k.Query("cursor"), k.limit())
			page := wire.Page[wire.TSIGKeyView]{Items: items}
			if more {
				page.Next = items[len(items)-1].Name + "."
			}
			return page, err
		}},
		{method: "POST", effect: writes, secret: true, path: "/tsig-keys", summary: "Add a key that signs dynamic updates", needs: access.Edit, in: wire.NewTSIGKey{}, out: wire.TSIGKeyAdded{}, status: http.StatusCreated, handle: func(k *call) (any, error) {
			var in wire.NewTSIGKey
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Updates.AddKey(k.Request.Context(), k.caller, in)
		}},
		{method: "DELETE", effect: writes, path: "/tsig-keys/:key", summary: "Remove a key of dynamic updates", needs: access.Edit, status: http.StatusNoContent, handle: func(k *call) (any, error) {
			return nil, k.svc.Updates.RemoveKey(k.Request.Context(), k.caller, k.Param("key"))
		}},
	}
}
