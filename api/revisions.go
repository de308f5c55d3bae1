package api

import (
	"fmt"
	"net/http"
	"strconv"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/wire"
)

func routesOfRevisions() []route {
	return []route{
		{method: "GET", effect: looks, path: "/zones/:name/revisions", summary: "Accepted states, newest first", needs: access.See, out: wire.Page[wire.Revision]{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			items, err := k.svc.Zones.Revisions(k.Request.Context(), k.caller, name)
			return wire.Page[wire.Revision]{Items: items}, err
		})},
		{method: "GET", effect: looks, path: "/zones/:name/comparison", summary: "What differs between two revisions; from=0 is before the first", needs: access.See, query: []string{"from", "to"}, out: wire.Compared{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			from, err := k.revision("from")
			if err != nil {
				return nil, err
			}
			to, err := k.revision("to")
			if err != nil {
				return nil, err
			}
			return k.svc.Zones.CompareRevisions(k.Request.Context(), k.caller, name, from, to)
		})},
		{method: "GET", effect: looks, path: "/zones/:name/history", summary: "The revisions that changed one name, newest first", needs: access.See, query: []string{"of"}, out: wire.Page[wire.NameChange]{}, status: http.StatusOK, handle: named(func(k *call, zone dnsname.Name) (any, error) {
			of, err := dnsname.Parse(k.Query("of"))
			if err != nil {
				return nil, &wire.Problem{Kind: wire.Invalid, Message: fmt.Sprintf("of: %s.", err)}
			}
			items, err := k.svc.Zones.NameHistory(k.Request.Context(), k.caller, zone, of)
			return wire.Page[wire.NameChange]{Items: items}, err
		})},
		{method: "POST", effect: writes, path: "/zones/:name/restorations", summary: "Restore an earlier revision", needs: access.Edit, in: wire.Restore{}, out: wire.Revision{}, status: http.StatusCreated, handle: named(func(k *call, name dnsname.Name) (any, error) {
			var in wire.Restore
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Zones.Restore(k.Request.Context(), k.caller, name, in.Revision, in.Reason)
		})},
	}
}

// revision reads the number of a revision.
func (k *call) revision(parameter string) (uint32, error) {
	n, err := strconv.ParseUint(k.Query(parameter), 10, 32)
	if err != nil {
		return 0, &wire.Problem{Kind: wire.Invalid, Message: fmt.Sprintf("%s is the number of a revision.", parameter)}
	}
	return uint32(n), nil
}
