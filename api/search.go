package api

import (
	"net/http"
	"strconv"

	"beacon/core/access"
	"beacon/service"
	"beacon/store"
	"beacon/wire"
)

// routesOfSearch are those that go over all zones.
func routesOfSearch() []route {
	return []route{
		{method: "GET", path: "/records", summary: "Find records in all zones; * at the beginning or the end of a name or value stands for anything", right: access.Read,
			query: []string{"text", "zone", "name", "value", "type", "address", "ttl", "cursor", "limit"}, out: Page[store.Hit]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
				items, next, err := k.svc.Search(k.Request.Context(), service.SearchRequest{Text: k.Query("text"), Zone: k.Query("zone"), Name: k.Query("name"), Value: k.Query("value"),
					Type: k.Query("type"), Address: k.Query("address"), TTL: k.Query("ttl"), Cursor: k.Query("cursor"), Limit: k.limit()})
				return Page[store.Hit]{Items: items, Next: next}, err
			}},
		{method: "POST", path: "/operations", summary: "Change all records that a search finds, in all zones, as one operation that can be undone", right: access.Write, in: service.ReplaceRequest{}, out: service.Replaced{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			var in service.ReplaceRequest
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Replace(k.Request.Context(), in)
		}},
		{method: "GET", path: "/operations", summary: "Changes of many zones at once, newest first", right: access.Read, query: []string{"limit"}, out: Page[store.Operation]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			items, err := k.svc.Operations(k.Request.Context(), k.limit())
			return Page[store.Operation]{Items: items}, err
		}},
		{method: "POST", path: "/operations/:id/undo", summary: "Put back what an operation changed", right: access.Write, out: service.Replaced{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			id, err := k.number("id", "an operation")
			if err != nil {
				return nil, err
			}
			return k.svc.UndoOperation(k.Request.Context(), id)
		}},
		{method: "POST", path: "/operations/:id/syncs", summary: "Make live what is wanted, in every zone of an operation", right: access.Write, out: Page[service.SyncView]{}, status: http.StatusAccepted, handle: func(k *call) (any, error) {
			id, err := k.number("id", "an operation")
			if err != nil {
				return nil, err
			}
			items, err := k.svc.SyncOperation(k.Request.Context(), id)
			return Page[service.SyncView]{Items: items}, err
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
