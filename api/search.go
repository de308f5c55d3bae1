package api

import (
	"net/http"
	"strconv"

	"beacon/core/access"
	"beacon/wire"
)

// routesOfSearch are those that go over all zones.
func routesOfSearch() []route {
	return []route{
		{method: "GET", effect: looks, path: "/records", summary: "Find records in all zones; * at the beginning or end of a name or value matches anything", needs: access.See,
			query: []string{"text", "zone", "name", "value", "type", "address", "ttl", "cursor", "limit"}, out: wire.Page[wire.Hit]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
				items, next, err := k.svc.Zones.Search(k.Request.Context(), k.caller, wire.SearchRequest{Text: k.Query("text"), Zone: k.Query("zone"), Name: k.Query("name"), Value: k.Query("value"),
					Type: k.Query("type"), Address: k.Query("address"), TTL: k.Query("ttl"), Cursor: k.Query("cursor"), Limit: k.limit()})
				return wire.Page[wire.Hit]{Items: items, Next: next}, err
			}},
		{method: "POST", effect: writes, path: "/operations", summary: "Change all records that a search finds, in all zones, as one operation that can be undone", needs: access.Edit, in: wire.ReplaceRequest{}, out: wire.Replaced{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			var in wire.ReplaceRequest
			if err := k.body(&in); err != nil {
				return nil, err
			}
			if in.DryRun {
				k.looking()
			}
			return k.svc.Zones.Replace(k.Request.Context(), k.caller, in)
		}},
		{method: "GET", effect: looks, path: "/operations", summary: "List bulk changes, newest first", needs: access.See, query: []string{"limit"}, out: wire.Page[wire.Operation]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			items, err := k.svc.Overview.Operations(k.Request.Context(), k.caller, k.limit())
			return wire.Page[wire.Operation]{Items: items}, err
		}},
		{method: "POST", effect: writes, path: "/operations/:id/undo", summary: "Undo a bulk change", needs: access.Edit, out: wire.Replaced{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			id, err := k.number("id", "an operation")
			if err != nil {
				return nil, err
			}
			return k.svc.Zones.UndoOperation(k.Request.Context(), k.caller, id)
		}},
		{method: "POST", effect: writes, path: "/operations/:id/syncs", summary: "Sync every zone of a bulk change", needs: access.Sync, out: wire.Page[wire.SyncView]{}, status: http.StatusAccepted, handle: func(k *call) (any, error) {
			id, err := k.number("id", "an operation")
			if err != nil {
				return nil, err
			}
			items, err := k.svc.Apply.SyncOperation(k.Request.Context(), k.caller, id)
			return wire.Page[wire.SyncView]{Items: items}, err
		}},
	}
}

// number reads a number in the path.
func (k *call) number(parameter, of string) (uint64, error) {
	id, err := strconv.ParseUint(k.Param(parameter), 10, 64)
	if err != nil {
		return 0, &wire.Problem{Kind: wire.Invalid, Message: "The number of " + of + " is a whole number."}
	}
	return id, nil
}
