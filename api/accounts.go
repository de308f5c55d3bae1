package api

import (
	"net/http"

	"beacon/core/access"
	"beacon/core/diff"
	"beacon/core/dnsname"
	"beacon/wire"
)

func routesOfAccounts() []route {
	return []route{
		{method: "GET", effect: looks, path: "/kinds", summary: "What accounts can be connected to", needs: access.See, query: []string{"role"}, out: wire.Page[wire.Kind]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			return wire.Page[wire.Kind]{Items: k.svc.Accounts.Kinds(k.Request.Context(), k.DefaultQuery("role", wire.RoleProvider))}, nil
		}},
		{method: "GET", effect: looks, path: "/accounts", summary: "Connected accounts", needs: access.See, query: []string{"role"}, out: wire.Page[wire.AccountView]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			items, err := k.svc.Overview.Accounts(k.Request.Context(), k.caller, k.DefaultQuery("role", wire.RoleProvider))
			return wire.Page[wire.AccountView]{Items: items}, err
		}},
		{method: "GET", effect: looks, path: "/accounts/:name", summary: "One account, with its ETag", needs: access.See, query: []string{"role"}, out: wire.AccountView{}, status: http.StatusOK, tagged: true, handle: account},
		{method: "POST", effect: writes, path: "/accounts", summary: "Connect an account; its credential is tested immediately", needs: access.Connect, in: wire.NewAccount{}, out: wire.AccountAdded{}, status: http.StatusCreated, handle: func(k *call) (any, error) {
			var in wire.NewAccount
			if err := k.body(&in); err != nil {
				return nil, err
			}
			tried, err := k.svc.Accounts.AddAccount(k.Request.Context(), k.caller, in)
			return wire.AccountAdded{Name: in.Name, Tried: tried}, err
		}},
		{method: "PUT", effect: writes, path: "/accounts/:name/credential", summary: "Replace the credential of an account; it is tested immediately; If-Match is honoured", needs: access.Connect, match: account, in: wire.NewCredential{}, out: wire.AccountAdded{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			var in wire.NewCredential
			if err := k.body(&in); err != nil {
				return nil, err
			}
			if in.Role == "" {
				in.Role = wire.RoleProvider
			}
			tried, err := k.svc.Accounts.RotateAccount(k.Request.Context(), k.caller, k.Param("name"), in)
			return wire.AccountAdded{Name: k.Param("name"), Tried: tried}, err
		}},
		{method: "DELETE", effect: writes, path: "/accounts/:name", summary: "Remove an account and forget its credential; not while it is used; If-Match is honoured", needs: access.Connect, match: account, query: []string{"role"}, status: http.StatusNoContent, handle: func(k *call) (any, error) {
			role := k.Query("role")
			if role == "" {
				role = wire.RoleProvider
			}
			return nil, k.svc.Accounts.RemoveAccount(k.Request.Context(), k.caller, role, k.Param("name"))
		}},
		{method: "POST", effect: writes, path: "/accounts/:name/verifications", summary: "Start the conformance run of an account; it goes on in the background", needs: access.Connect, in: wire.Verification{}, out: wire.VerificationRun{}, status: http.StatusAccepted, handle: func(k *call) (any, error) {
			var in wire.Verification
			if err := k.body(&in); err != nil {
				return nil, err
			}
			if in.Role == "" {
				in.Role = wire.RoleProvider
			}
			return k.svc.Accounts.Verify(k.Request.Context(), k.caller, k.Param("name"), in)
		}},
		{method: "GET", effect: looks, path: "/accounts/:name/verifications", summary: "Conformance runs of an account, newest first", needs: access.See, query: []string{"role"}, out: wire.Page[wire.VerificationRun]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			items, err := k.svc.Accounts.Verifications(k.Request.Context(), k.caller, k.DefaultQuery("role", wire.RoleProvider), k.Param("name"))
			return wire.Page[wire.VerificationRun]{Items: items}, err
		}},
		{method: "GET", effect: looks, path: "/verifications/:id", summary: "A conformance run, as far as it got", needs: access.See, out: wire.VerificationRun{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			id, err := k.number("id", "a verification")
			if err != nil {
				return nil, err
			}
			return k.svc.Accounts.Verification(k.Request.Context(), k.caller, id)
		}},
		{method: "GET", effect: looks, path: "/accounts/:name/zones", summary: "Zones that a provider account holds", needs: access.See, out: wire.Page[wire.RemoteZone]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			items, err := k.svc.Accounts.RemoteZones(k.Request.Context(), k.caller, k.Param("name"))
			return wire.Page[wire.RemoteZone]{Items: items}, err
		}},
		{method: "GET", effect: looks, path: "/accounts/:name/registrations", summary: "Domains that a registrar account holds", needs: access.See, out: wire.Page[wire.Registration]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			items, err := k.svc.Accounts.Registrations(k.Request.Context(), k.caller, k.Param("name"))
			return wire.Page[wire.Registration]{Items: items}, err
		}},
		{method: "GET", effect: looks, path: "/placements", summary: "How every placement stood when it was looked at last", needs: access.See, query: []string{"cursor", "limit"}, out: wire.Page[wire.PlacementView]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			after, err := k.after()
			if err != nil {
				return nil, err
			}
			items, next, err := k.svc.Overview.PlacementViews(k.Request.Context(), k.caller, after, k.limit())
			page := wire.Page[wire.PlacementView]{Items: items}
			if !next.IsZero() {
				page.Next = next.String()
			}
			return page, err
		}},
		{method: "POST", effect: writes, path: "/zones/:name/adoptions", summary: "Adopt changes made at an account as desired records", needs: access.Sync, in: wire.Adoption{}, out: wire.Page[diff.Item]{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			var in wire.Adoption
			if err := k.body(&in); err != nil {
				return nil, err
			}
			items, err := k.svc.Syncs.Adopt(k.Request.Context(), k.caller, name, in)
			return wire.Page[diff.Item]{Items: items}, err
		})},
		{method: "GET", effect: looks, path: "/zones/:name/settings", summary: "The settings of a zone, with their ETag", needs: access.See, out: wire.ZoneSettings{}, status: http.StatusOK, tagged: true, handle: named(func(k *call, name dnsname.Name) (any, error) {
			z, err := k.svc.Overview.Zone(k.Request.Context(), k.caller, name)
			return z.Settings, err
		})},
		{method: "PUT", effect: writes, path: "/zones/:name/settings", summary: "Set the settings of a zone; If-Match is honoured", needs: access.Place, tagged: true, in: wire.ZoneSettings{}, out: wire.ZoneSettings{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			var in wire.ZoneSettings
			if err := k.body(&in); err != nil {
				return nil, err
			}
			return k.svc.Zones.SetZoneSettings(k.Request.Context(), k.caller, name, in, func(present wire.ZoneSettings) error { return k.matchesState(present) })
		})},
		{method: "GET", effect: looks, path: "/zones/:name/syncs", summary: "The last syncs of a zone, newest first", needs: access.See, out: wire.Page[wire.SyncView]{}, status: http.StatusOK, handle: named(func(k *call, name dnsname.Name) (any, error) {
			items, err := k.svc.Overview.Syncs(k.Request.Context(), k.caller, name)
			return wire.Page[wire.SyncView]{Items: items}, err
		})},
		{method: "GET", effect: looks, path: "/syncs/:id/requests", summary: "The requests of a sync and what became of each", needs: signedIn, out: wire.Page[wire.SentRequest]{}, status: http.StatusOK, handle: func(k *call) (any, error) {
			id, err := k.number("id", "a sync")
			if err != nil {
				return nil, err
			}
			items, err := k.svc.Overview.Requests(k.Request.Context(), k.caller, id)
			return wire.Page[wire.SentRequest]{Items: items}, err
		}},
	}
}

// account returns one account: that of the role in the query, else the provider account.
func account(k *call) (any, error) {
	role := k.Query("role")
	if role == "" {
		role = wire.RoleProvider
	}
	list, err := k.svc.Overview.Accounts(k.Request.Context(), k.caller, role)
	if err != nil {
		return nil, err
	}
	for _, a := range list {
		if a.Name == k.Param("name") {
			return a, nil
		}
	}
	return nil, wire.Problemf(wire.NotFound, "There is no %s account named %s.", role, k.Param("name"))
}
