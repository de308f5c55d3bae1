package api

import (
	"io"
	"net/http"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/core/rules"
	"beacon/wire"
)

func routesOfZones() []route {
	return []route{
		{method: "GET", effect: looks, path: "/zones", summary: "List managed zones", needs: access.See, query: []string{"cursor", "limit"}, out: wire.Page[wire.ZoneView]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			after, err := k.after()
			if err != nil {
				return nil, err
			}
			items, more, err := k.svc.Overview.Zones(k.Request.Context(), k.caller, after, k.limit())
			return nextByName(items, more, func(z wire.ZoneView) dnsname.Name { return z.Name }), err
		}},
		{method: "GET", effect: looks, path: "/zones/:name", summary: "One zone, with its ETag", needs: access.See, out: wire.ZoneView{}, status: http.StatusOK, tagged: true, handle: named(func(k *call, name dnsname.Name) (any, error) {
			return k.svc.Overview.Zone(k.Request.Context(), k.caller, name)
		})},
		{method: "GET", effect: looks, path: "/zones/:name/records", summary: "The desired records of a zone; addresses=true puts addresses in place of ALIAS records", needs: access.See, out: wire.Page[record.Record]{}, status: http.StatusOK, query: []string{"addresses", "cursor", "limit"}, handle: named(func(k *call, name dnsname.Name) (any, error) {
			if k.Query("addresses") == "true" { // an ALIAS may follow any other name of the zone: all of it is needed
				c, err := k.svc.Zones.WantedAddresses(k.Request.Context(), k.caller, name)
				return wire.Page[record.Record]{Items: append([]record.Record{}, c.Records()...)}, err
			}
			return k.svc.Zones.Records(k.Request.Context(), k.caller, name, k.Query("cursor"), k.limitUpTo(5000))
		})},
		{method: "GET", effect: looks, path: "/zones/:name/findings", summary: "Findings about the desired records of a zone", needs: access.See, out: wire.Page[rules.Found]{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			items, err := k.svc.Zones.Findings(k.Request.Context(), k.caller, name)
			return wire.Page[rules.Found]{Items: items}, err
		})},
		{method: "POST", effect: writes, path: "/zones/:name/imports", summary: "Accept a zone file as desired records; also as text/dns, with the other fields in the query", needs: access.Edit, query: []string{"file", "reason", "dry_run", "partial"}, most: 8, in: wire.Import{}, out: wire.Imported{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.Import{Zone: name}
			if k.ContentType() == zoneFileType {
				text, err := io.ReadAll(k.sent())
				if err != nil {
					return nil, unread(err)
				}
				in.Text, in.File, in.Reason = string(text), k.DefaultQuery("file", "zone file"), k.Query("reason")
				in.DryRun, in.Partial = k.Query("dry_run") == "true", k.Query("partial") == "true"
			} else if err := k.body(&in); err != nil {
				return nil, err
			}
			leave, err := k.slots.large(len(in.Text))
			if err != nil {
				return nil, err
			}
			defer leave()
			if in.DryRun {
				k.looking()
			}
			return k.svc.Zones.ImportZone(k.Request.Context(), k.caller, in)
		})},
		{method: "GET", effect: looks, path: "/zones/:name/differences", summary: "Differences between desired and live records, at each placement", needs: access.See, query: []string{"revert"}, out: wire.Page[wire.Difference]{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			items, err := k.svc.Syncs.Differences(k.Request.Context(), k.caller, name, k.Query("revert") == "true")
			return wire.Page[wire.Difference]{Items: items}, err
		})},
		{method: "POST", effect: writes, path: "/zones/:name/syncs", summary: "Write the desired records to the providers, in the background", needs: access.Sync, in: wire.SyncRequest{}, out: wire.Page[wire.SyncView]{}, status: http.StatusAccepted, handle: named(func(k *call, name dnsname.Name) (any, error) {
			in := wire.SyncRequest{Zone: name}
			if err := k.body(&in); err != nil {
				return nil, err
			}
			items, err := k.svc.Syncs.StartSync(k.Request.Context(), k.caller, in)
			return wire.Page[wire.SyncView]{Items: items}, err
		})},
		{method: "POST", effect: writes, path: "/syncs/:id/cancellation", summary: "Cancel a sync; requests that were sent stay sent", needs: access.Sync, in: wire.Cancellation{}, out: wire.SyncView{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			id, err := k.number("id", "a sync")
			if err != nil {
				return nil, err
			}
			var in wire.Cancellation
			if err := k.body(&in); err != nil {
				return nil, err
			}
			if err := k.svc.Syncs.Cancel(k.Request.Context(), k.caller, id, in.Reason); err != nil {
				return nil, err
			}
			return k.svc.Overview.Sync(k.Request.Context(), k.caller, id)
		}},
		{method: "GET", effect: looks, path: "/syncs/:id", summary: "The state of a sync", needs: signedIn, out: wire.SyncView{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			id, err := k.number("id", "a sync")
			if err != nil {
				return nil, err
			}
			return k.svc.Overview.Sync(k.Request.Context(), k.caller, id)
		}},
	}
}
